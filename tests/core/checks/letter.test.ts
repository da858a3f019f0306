import { expect, it } from 'vitest';
import { customerLetter } from '../../../src/core/checks/letter.ts';
import { at, type lookupIn } from '../../support/lookup.ts';
import { check, DOMAIN, dkim, GOOD, HOST, mx, spf, typed } from '../../support/shop.ts';

const letterOf = async (entries: Parameters<typeof lookupIn>[0]) => customerLetter(DOMAIN, await check([...entries]));

it('tells whoever has the DNS form what to type and what to remove, and nothing else', async () => {
  const letter = await letterOf(spf('v=spf1 ip4:203.0.113.9 -all'));
  expect(letter?.subject).toBe('DNS of shop.example: one change needed');
  expect(letter?.text).toContain('1. SPF: The record leaves this host out');
  expect(letter?.text).toContain('     Name   @   (if the form wants the full name: shop.example)');
  expect(letter?.text).toContain('     Value  v=spf1 a:mail.host.example ip4:203.0.113.9 -all');
  const mail = await letterOf(mx('5 mx.other.example', '10 mail.host.example', '20 reserve.host.example'));
  expect(mail?.text).toContain('Remove “MX 5 mx.other.example”');
  // A long key is on a line of its own.
  expect((await letterOf(dkim()))?.text).toMatch(/^v=DKIM1; k=rsa; p=[A-Za-z0-9+/=]{392}$/m);
});

it('names are those that the form of their own zone takes; where it is not known, the whole ones', async () => {
  const below = { domain: 'news.shop.example' };
  const names = async (entries: Parameters<typeof lookupIn>[0]) =>
    (await check([...entries], below)).flatMap((one) =>
      one.publish.flatMap(({ type, relativeName }) => (type === 'TXT' ? [relativeName] : [])),
    );
  expect(await names(GOOD)).toEqual(['news', 'k1._domainkey.news']);
  expect(await names([...GOOD, at('news.shop.example', 'SOA', '1')])).toEqual(['@', 'k1._domainkey']);
  const unknown = GOOD.filter(([, type]) => type !== 'SOA');
  expect(await names(unknown)).toEqual([null, null]);
  expect(customerLetter(below.domain, await check(unknown, below))?.text).toContain('     Name   k1._domainkey.news.shop.example\n');
});

it('has no word of our commands, roles or configuration, and leaves out what is the host’s to do', async () => {
  const everything = await letterOf([at(DOMAIN, 'MX', '10 mx.other.example'), at('mx.other.example', 'A', '203.0.113.7')]);
  expect(everything?.subject).toBe('DNS of shop.example: 4 changes needed');
  expect(everything?.about).toEqual(['MX', 'SPF', 'DKIM', 'DMARC']);
  expect(everything?.text).not.toMatch(/tenedor|`|role|PTR|192\.0\.2\.25 should/);
  // The host's own address is missing in DNS, and nothing else.
  expect(await letterOf(GOOD.filter(([name, type]) => !(name === HOST.name && type === 'AAAA')))).toBeNull();
  expect(await letterOf(GOOD)).toBeNull();
});

it('goes by whom a remedy is for, and not by words in it: names of others may be any', async () => {
  const letter = await letterOf(spf('v=spf1 a:mail.host.example include:configuration.role.tenedor.example -all'));
  expect(letter?.text).toContain('“include:configuration.role.tenedor.example”: configuration.role.tenedor.example has no SPF record');
  // What a check of version 0.1.0 found says what to type, and no more.
  const old = (await check([...spf('v=spf1 ip4:203.0.113.9 -all')])).map(({ forCustomer: _none, ...one }) => one);
  expect(customerLetter(DOMAIN, old)?.text).toContain('     Value  v=spf1 a:mail.host.example ip4:203.0.113.9 -all');
});

it('what it asks for, typed in, leaves nothing to ask for', async () => {
  const before = await check([
    at('mx.other.example', 'A', '203.0.113.7'),
    ...GOOD.filter(([name, type]) => name !== DOMAIN || type === 'A'),
  ]);
  expect(customerLetter(DOMAIN, before)).not.toBeNull();
  expect(
    await letterOf(
      typed(
        GOOD,
        before.flatMap((one) => one.publish),
      ),
    ),
  ).toBeNull();
});
