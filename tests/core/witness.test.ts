import { randomBytes } from 'node:crypto';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { introductionProof, isProof } from '../../src/core/witness/introduction.ts';
import { privateKeyOf, publicKeyOf, publicText } from '../../src/core/witness/key.ts';
import { isSignedAnswer, isSignedCall, readCall, type SignedCall, signAnswer, signCall } from '../../src/core/witness/signed-call.ts';

const key = privateKeyOf(Buffer.alloc(32, 7));
const known = publicKeyOf(publicText(key)) as NonNullable<ReturnType<typeof publicKeyOf>>;
const CALL: SignedCall = {
  path: '/api/v1/witness/rehearsals',
  body: '{"kind":"relay"}',
  from: 'mail.host.example',
  to: 'reserve.host.example',
  created: 1_790_000_000,
  nonce: 'abcdefghijklmnopqrstuvwx',
};

it('a key is what RFC 8032 §7.1 (test 1) has, and nothing else is one', () => {
  const seed = Buffer.from('9d61b19deffd5a60ba844af492ec2cc44449c5697b326919703bac031cae7f60', 'hex');
  expect(Buffer.from(publicText(privateKeyOf(seed)), 'base64').toString('hex')).toBe(
    'd75a980182b10ab7d54bfed3c964073a0ee172f3daa62325af021a68f707511a',
  );
  for (const wrong of ['', 'AAAA', 'x'.repeat(44), `${publicText(key)} `, publicText(key).slice(0, -4)])
    expect(publicKeyOf(wrong)).toBeNull();
});

describe('a signed call', () => {
  const headers = signCall(CALL, key);

  it('is read and holds; its answer holds for that call alone', () => {
    const read = readCall(headers, CALL.path, CALL.body);
    expect(read).toEqual(CALL);
    expect(isSignedCall(read as SignedCall, headers, known)).toBe(true);
    const answer = signAnswer('[]', CALL, key);
    expect(isSignedAnswer('[]', CALL, answer, known)).toBe(true);
    expect(isSignedAnswer('[1]', CALL, answer, known)).toBe(false);
    expect(isSignedAnswer('[]', { ...CALL, nonce: 'another-nonce-of-that-length' }, answer, known)).toBe(false);
    // What was asked is no answer, and the other way round.
    expect(isSignedAnswer(CALL.body, CALL, headers, known)).toBe(false);
  });

  it('holds for nobody else, nowhere else, and with nothing changed', () => {
    const other = publicKeyOf(publicText(privateKeyOf(randomBytes(32)))) as typeof known;
    expect(isSignedCall(CALL, headers, other)).toBe(false);
    for (const changed of [
      { from: 'x.example' },
      { to: 'x.example' },
      { created: 1 },
      { path: '/api/v1/domains' },
      { nonce: 'b'.repeat(24) },
    ])
      expect(isSignedCall({ ...CALL, ...changed }, headers, known)).toBe(false);
    expect(readCall(headers, CALL.path, '{"kind":"signin"}')).toBeNull();
    expect(
      readCall({ ...headers, 'signature-input': headers['signature-input']?.replace('"@path" ', '') ?? '' }, CALL.path, CALL.body),
    ).toBeNull();
  });

  it('whatever the header fields hold is answered, never thrown', () => {
    fc.assert(
      fc.property(fc.string(), fc.string(), fc.constantFrom('signature-input', 'signature', 'content-digest'), (text, body, name) => {
        const given = { ...headers, [name]: text };
        readCall(given, CALL.path, body);
        if (name === 'signature') expect(isSignedCall(CALL, given, known)).toBe(text === headers.signature);
        else expect(readCall(given, CALL.path, CALL.body)).toBeNull();
      }),
    );
  });
});

it('an introduction is proven by its code, in its direction', () => {
  const mine = { name: 'a.example', url: null, publicKey: publicText(key) };
  const proof = introductionProof('code', mine, null);
  expect(isProof(proof, introductionProof('code', mine, null))).toBe(true);
  for (const other of [
    introductionProof('codf', mine, null),
    introductionProof('code', { ...mine, url: 'https://x.example' }, null),
    introductionProof('code', mine, mine.publicKey),
    '',
  ])
    expect(isProof(proof, other)).toBe(false);
});
