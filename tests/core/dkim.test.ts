import { generateKeyPairSync, sign } from 'node:crypto';
import fc from 'fast-check';
import nodemailer from 'nodemailer';
import { describe, expect, it } from 'vitest';
import { canonicalBody, canonicalField } from '../../src/core/dkim/canonical.ts';
import { keyRecordText, parseKeyRecord } from '../../src/core/dkim/key-record.ts';
import { prepareSignature } from '../../src/core/dkim/sign.ts';
import { verifyDkim } from '../../src/core/dkim/verify.ts';
import { lookupIn } from '../support/lookup.ts';

const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
const published = publicKey.export({ format: 'der', type: 'spki' }).toString('base64');
const NOW = 1_790_000_000_000;
const lookup = lookupIn([['k1._domainkey.shop.example', 'TXT', keyRecordText(published)]]);

function signed(message: Buffer): Buffer {
  const prepared = prepareSignature(message, { domain: 'shop.example', selector: 'k1', at: NOW / 1000 });
  return Buffer.concat([Buffer.from(prepared.field(sign('sha256', prepared.input, privateKey)), 'latin1'), message]);
}

describe('known answers', () => {
  it('canonicalises the example of RFC 6376 §3.4.5', () => {
    const body = Buffer.from(' C \r\nD \t E\r\n\r\n\r\n');
    expect(canonicalField('A: X', 'relaxed')).toBe('a:X');
    expect(canonicalField('B : Y\t\r\n\tZ  ', 'relaxed')).toBe('b:Y Z');
    expect(canonicalBody(body, 'relaxed').toString()).toBe(' C\r\nD E\r\n');
    expect(canonicalBody(body, 'simple').toString()).toBe(' C \r\nD \t E\r\n');
    expect(canonicalBody(Buffer.alloc(0), 'simple').toString()).toBe('\r\n');
    expect(canonicalBody(Buffer.alloc(0), 'relaxed').toString()).toBe('');
  });

  it('verifies both signatures of RFC 8463 appendix A', async () => {
    const message = [
      'DKIM-Signature: v=1; a=ed25519-sha256; c=relaxed/relaxed;',
      ' d=football.example.com; i=@football.example.com;',
      ' q=dns/txt; s=brisbane; t=1528637909; h=from : to :',
      ' subject : date : message-id : from : subject : date;',
      ' bh=2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8=;',
      ' b=/gCrinpcQOoIfuHNQIbq4pgh9kyIK3AQUdt9OdqQehSwhEIug4D11Bus',
      ' Fa3bT3FY5OsU7ZbnKELq+eXdp1Q1Dw==',
      'DKIM-Signature: v=1; a=rsa-sha256; c=relaxed/relaxed;',
      ' d=football.example.com; i=@football.example.com;',
      ' q=dns/txt; s=test; t=1528637909; h=from : to : subject :',
      ' date : message-id : from : subject : date;',
      ' bh=2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8=;',
      ' b=F45dVWDfMbQDGHJFlXUNB2HKfbCeLRyhDXgFpEL8GwpsRe0IeIixNTe3',
      ' DhCVlUrSjV4BwcVcOF6+FF3Zo9Rpo1tFOeS9mPYQTnGdaSGsgeefOsk2Jz',
      ' dA+L10TeYt9BgDfQNZtKdN1WO//KgIqXP7OdEFE4LjFYNcUxZQ4FADY+8=',
      'From: Joe SixPack <joe@football.example.com>',
      'To: Suzie Q <suzie@shopping.example.net>',
      'Subject: Is dinner ready?',
      'Date: Fri, 11 Jul 2003 21:00:37 -0700 (PDT)',
      'Message-ID: <20030712040037.46341.5F8J@football.example.com>',
      '',
      'Hi.',
      '',
      'We lost the game.  Are you hungry yet?',
      '',
      'Joe.',
      '',
    ].join('\r\n');
    const keys = lookupIn([
      ['brisbane._domainkey.football.example.com', 'TXT', 'v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo='],
      [
        'test._domainkey.football.example.com',
        'TXT',
        'v=DKIM1; k=rsa; p=MIGfMA0GCSqGSIb3DQEBAQUAA4GNADCBiQKBgQDkHlOQoBTzWRiGs5V6NpP3idY6Wk08a5qhdR6wy5bdOKb2jLQiY/J16JYi0Qvx/byYzCNb3W91y3FutACDfzwQ/BC/e/8uBsCR+yz1Lxj+PL6lHvqMKrM3rG4hstT5QjvHO9PzoxZyVYLzBfO2EeC3Ip3G+2kryOTIKT+l/K4w3QIDAQAB',
      ],
    ]);
    const outcomes = await verifyDkim(Buffer.from(message), keys, NOW);
    expect(outcomes.map((one) => [one.selector, one.result, one.reason])).toEqual([
      ['brisbane', 'pass', 'good signature'],
      ['test', 'pass', 'good signature'],
    ]);
  });

  it('verifies what another library has signed', async () => {
    const transport = nodemailer.createTransport({
      streamTransport: true,
      buffer: true,
      newline: 'windows',
      dkim: { domainName: 'shop.example', keySelector: 'k1', privateKey: privateKey.export({ format: 'pem', type: 'pkcs8' }).toString() },
    });
    const { message } = await transport.sendMail({
      from: 'ana@shop.example',
      to: 'li@other.example',
      subject: 'Señales  y   más',
      text: 'Hello,\n\n  two  spaces \n.dot\n',
      html: '<p>x</p>',
    });
    expect(await verifyDkim(message as Buffer, lookup, NOW)).toMatchObject([{ result: 'pass', domain: 'shop.example' }]);
  });
});

const word = fc.string({ unit: fc.constantFrom(...'abcXYZ09 \t.,;:=@<>'), maxLength: 30 });
const message = fc
  .tuple(word, fc.array(word, { maxLength: 6 }), fc.boolean())
  .map(([subject, lines, folded]) =>
    Buffer.from(
      `From: Ana <ana@shop.example>\r\nTo: li@other.example\r\nSubject: ${folded ? `a\r\n ${subject}x` : subject}\r\nDate: Mon, 23 Nov 2026 10:00:00 +0000\r\n\r\n${lines.map((line) => `${line}\r\n`).join('')}`,
    ),
  );

it('what we sign we verify, and any changed bit of it fails', async () => {
  await fc.assert(
    fc.asyncProperty(message, fc.nat(), fc.nat(7), async (original, at, bit) => {
      const whole = signed(original);
      expect((await verifyDkim(whole, lookup, NOW))[0]?.result).toBe('pass');
      const changed = Buffer.from(whole);
      const start = whole.length - original.length;
      const position = start + (at % original.length);
      changed[position] = (changed[position] ?? 0) ^ (1 << bit);
      const [outcome] = await verifyDkim(changed, lookup, NOW);
      // Relaxed canonicalisation forgives white space and the case of names (§3.4.2, §3.4.4); nothing else.
      const forgiven = canonicalWhole(changed) === canonicalWhole(whole);
      expect(outcome?.result).toBe(forgiven ? 'pass' : 'fail');
    }),
    { numRuns: 150 },
  );
});

/** What a relaxed signature covers of such a message. */
function canonicalWhole(message: Buffer): string {
  const text = message.toString('latin1');
  const split = text.indexOf('\r\n\r\n');
  const named = text
    .slice(0, split)
    .split(/\r\n(?![ \t])/)
    .map((field) => canonicalField(field, 'relaxed'))
    .filter((field) =>
      /^(from|to|subject|date|cc|message-id|reply-to|in-reply-to|references|mime-version|content-type|content-transfer-encoding):/.test(
        field,
      ),
    );
  return `${named.sort().join('\n')}\n\n${split < 0 ? '' : canonicalBody(Buffer.from(text.slice(split + 4), 'latin1'), 'relaxed')}`;
}

describe('signatures that do not count', () => {
  const whole = signed(Buffer.from('From: ana@shop.example\r\nSubject: s\r\n\r\nbody\r\n')).toString();
  const judge = async (text: string, record: string | null = keyRecordText(published), silent: string[] = []) =>
    (await verifyDkim(Buffer.from(text), lookupIn(record === null ? [] : [['k1._domainkey.shop.example', 'TXT', record]], silent), NOW))[0];
  it.each([
    ['a second From', () => judge(`From: evil@other.example\r\n${whole}`), 'fail', 'signature does not verify'],
    ['a changed body', () => judge(whole.replace('body', 'Body')), 'fail', 'body hash differs'],
    ['no key', () => judge(whole, null), 'permerror', 'no key is published'],
    ['a revoked key', () => judge(whole, 'v=DKIM1; p='), 'permerror', 'key revoked'],
    ['a key cut short', () => judge(whole, keyRecordText(published.slice(0, 200))), 'permerror', 'key unusable'],
    ['silence', () => judge(whole, null, ['k1._domainkey.shop.example']), 'temperror', 'no answer for the key'],
    ['rsa-sha1', () => judge(whole.replace('rsa-sha256', 'rsa-sha1')), 'permerror', 'not accepted'],
    ['an expired one', () => judge(whole.replace('t=', 'x=1000; t=')), 'fail', 'signature expired'],
    ['one without From', () => judge(whole.replace('h=From:From', 'h=To:To')), 'permerror', 'From is not signed'],
    ['twice the same tag', () => judge(whole.replace('v=1;', 'v=1; v=1;')), 'permerror', 'stands twice'],
  ])('%s', async (_what, run, result, reason) => {
    const outcome = await run();
    expect(outcome).toMatchObject({ result });
    expect(outcome?.reason).toContain(reason);
  });
});

it('no key record makes it throw', () => {
  fc.assert(
    fc.property(
      fc.string(),
      fc.string({ unit: fc.constantFrom(...'AZaz09+/=; ') }),
      (before, key) => void parseKeyRecord(`${before}; p=${key}`),
    ),
  );
});
