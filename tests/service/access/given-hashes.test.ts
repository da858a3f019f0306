import { expect, it } from 'vitest';
import { GivenHashes, whyNotGiven } from '../../../src/service/base/given-hashes.ts';
import { hashPassword } from '../../../src/service/base/secrets.ts';

const hashes = new GivenHashes();

/** RFC 7914 §12, the example of SHA-crypt's specification, and those of other implementations. */
const KNOWN: [password: string, hash: string][] = [
  [
    'pleaseletmein',
    `$scrypt$ln=14,r=8,p=1$${Buffer.from('SodiumChloride').toString('base64').replace(/=+$/, '')}$${Buffer.from('7023bdcb3afd7348461c06cd81fd38ebfda8fbba904f8e3ea9b543f6545da1f2d5432955613f0fcf62d49705242a9af9e61e85dc0d651e40dfcf017b45575887', 'hex').toString('base64').replace(/=+$/, '')}`,
  ],
  ['Hello world!', '$5$saltstring$5B8vYYiY.CVt1RlTTf8KbXBH3hsxY/GNooZaBBGWEc5'],
  ['Hello world!', '$6$saltstring$svn8UoSVapNtMuq1ukKS4tPQd8iKwSMHWjl/O817G3uBnIFNjnQJuesI68u4OTLiBFdcbYEdFCoEOfaS35inz1'],
  ['password', '$argon2id$v=19$m=65536,t=2,p=1$c29tZXNhbHQ$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc'],
  ['U*U', '$2a$05$CCCCCCCCCCCCCCCCCCCCC.E5YPO9kmyuRGyh0XouQYb4YMJKvyOeW'],
];

it.each(KNOWN)('%s is right by %s, and nothing else is', async (password, hash) => {
  expect(whyNotGiven(hash)).toBeNull();
  expect(await hashes.matches(password, hash)).toBe(true);
  expect(await hashes.matches(`${password} `, hash)).toBe(false);
  expect(await hashes.matches('', hash)).toBe(false);
});

it('what is kept here, and nobody, are compared as ever', async () => {
  const own = await hashPassword('quiet harbour lantern');
  expect(await hashes.matches('quiet harbour lantern', own)).toBe(true);
  expect(await hashes.matches('quiet harbour', own)).toBe(false);
  expect(await hashes.matches('x', null)).toBe(false);
});

it.each([
  ['', 'not one of'],
  ['plain text', 'not one of'],
  ['$1$salt$hash', 'not one of'],
  ['$argon2i$v=19$m=65536,t=2,p=1$c29tc2FsdA$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc', 'not one of'],
  ['$argon2id$v=19$m=9999999,t=2,p=1$c29tc2FsdA$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc', 'too high'],
  [`$6$rounds=999999999$saltstring$${'a'.repeat(86)}`, 'too high'],
  [`$2b$31$${'a'.repeat(53)}`, 'too high'],
  [`$scrypt$ln=40,r=8,p=1$c29tc2FsdA$${'a'.repeat(43)}`, 'too high'],
])('a hash that would keep everybody waiting, or that nobody can compare with, is not taken: %s', (hash, why) => {
  expect(whyNotGiven(hash)).toContain(why);
});
