import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { authenticationResults, withoutForgedResults } from '../../src/core/judgement/authentication-results.ts';
import { type Judgement, judge } from '../../src/core/judgement/judge.ts';
import { parseFields } from '../../src/core/message/fields.ts';
import { lookupIn } from '../support/lookup.ts';

const ZONE: Parameters<typeof lookupIn>[0] = [
  ['shop.example', 'TXT', 'v=spf1 ip4:192.0.2.1 -all'],
  ['_dmarc.shop.example', 'TXT', 'v=DMARC1; p=reject'],
  ['_dmarc.mild.example', 'TXT', 'v=DMARC1; p=quarantine'],
  ['mx.shop.example', 'TXT', 'v=spf1 ip4:192.0.2.1 -all'],
];
const message = (from: string) => Buffer.from(`From: ${from}\r\nSubject: s\r\n\r\nbody\r\n`);
const arrive = (from: string, sender = 'ana@shop.example', clientAddress = '192.0.2.1', silent: string[] = []): Promise<Judgement> =>
  judge({ clientAddress, helo: 'MX.shop.example', sender, content: message(from) }, lookupIn(ZONE, silent), {
    receiver: 'mail.host.example',
    now: 0,
    draw: 0,
  });
const brief = ({ helo, spf, dmarc }: Judgement) => [helo.result, spf.result, dmarc.result, dmarc.disposition];

describe('an arrival is judged', () => {
  it('by HELO, envelope and author', async () => {
    expect(brief(await arrive('Ana <ana@shop.example>'))).toEqual(['pass', 'pass', 'pass', 'none']);
    expect(brief(await arrive('ana@shop.example', 'x@other.example', '203.0.113.9'))).toEqual(['fail', 'none', 'fail', 'reject']);
  });
  it('with a null sender as postmaster of the HELO name (RFC 7208 §2.4)', async () => {
    const judgement = await arrive('ana@shop.example', '');
    expect(judgement.spf).toMatchObject({ result: 'pass', domain: 'mx.shop.example' });
    expect(judgement.dmarc.result).toBe('pass');
  });
  it('with several authors by the one that asks for most (RFC 7489 §6.6.1)', async () => {
    for (const from of ['a@mild.example, b@shop.example', 'b@shop.example, a@mild.example, c@free.example'])
      expect((await arrive(from, 'x@free.example')).dmarc).toMatchObject({ domain: 'shop.example', disposition: 'reject' });
  });
  it('silence is never a fail', async () => {
    const silent = await arrive('ana@shop.example', 'ana@shop.example', '203.0.113.9', ['shop.example', 'mx.shop.example']);
    expect(brief(silent)).toEqual(['temperror', 'temperror', 'temperror', 'none']);
    expect((await arrive('ana@shop.example', 'x@free.example', '203.0.113.9', ['_dmarc.shop.example'])).dmarc.result).toBe('temperror');
  });
  it.each(['', 'nobody', '<broken', 'a@b@c'])('From %j is nobody’s', async (from) => {
    expect((await arrive(from)).dmarc.disposition).toBe('none');
  });
});

describe('the field (RFC 8601)', () => {
  it('says each result with what it was for', async () => {
    const field = authenticationResults('mail.host.example', await arrive('ana@shop.example'), 'ana@shop.example');
    expect(field.replace(/\r\n[ \t]+/g, ' ')).toBe(
      'Authentication-Results: mail.host.example; spf=pass smtp.helo=mx.shop.example;' +
        " spf=pass (192.0.2.1 matches 'ip4:192.0.2.1' of shop.example) smtp.mailfrom=ana@shop.example;" +
        ' dkim=none; dmarc=pass (p=reject, aligned SPF of shop.example) header.from=shop.example\r\n',
    );
  });
  it('is one field whatever stands in the message', async () => {
    const hostile = fc.string({ unit: fc.constantFrom('a', '@', '"', '\\', '(', ')', ';', '\r', '\n', '\0', 'é', ' '), maxLength: 30 });
    await fc.assert(
      fc.asyncProperty(hostile, hostile, async (helo, text) => {
        const judgement = await judge(
          {
            clientAddress: '192.0.2.1',
            helo,
            sender: `${text}@shop.example`,
            content: Buffer.from(`DKIM-Signature: d=${text}; s=${helo}\r\nFrom: ${text}@${helo}\r\n\r\n`),
          },
          lookupIn(ZONE),
          { receiver: 'r.example', now: 0, draw: 0 },
        );
        const field = authenticationResults('mail.host.example', judgement, `${text}@shop.example`);
        expect(parseFields(Buffer.from(field))).toHaveLength(1);
        expect(field).toMatch(/^[\t\r\n -~]+$/);
        // Outside of quotes and comments there are exactly our own results.
        const bare = field.replace(/"(?:[^"\\]|\\.)*"/g, '""').replace(/\((?:[^()\\]|\\.)*\)/g, '()');
        expect(bare.match(/;/g)).toHaveLength(3 + Math.max(1, judgement.dkim.length));
      }),
    );
  });
  it('of others that claim to be ours are taken out, and only those (§5)', () => {
    const other = 'Authentication-Results: mx.other.example; spf=pass\r\n';
    const forged = [
      'Authentication-Results: mail.host.example; dmarc=pass\r\n',
      'authentication-results : MAIL.host.example 1;\r\n\tdmarc=pass\r\n',
      'Authentication-Results: (a (nested) comment) "mail.host.example"; dmarc=pass\r\n',
      'Authentication-Results:\r\n mail.host.example; none\r\n',
    ];
    const rest =
      'From: a@b.example\r\nX-Authentication-Results: mail.host.example; x\r\n\r\nAuthentication-Results: mail.host.example; in the body\r\n';
    const cleaned = withoutForgedResults(Buffer.from(forged[0] + other + forged.slice(1).join('') + rest), 'mail.host.example');
    expect(cleaned.removed).toBe(4);
    expect(cleaned.message.toString()).toBe(other + rest);
  });
});
