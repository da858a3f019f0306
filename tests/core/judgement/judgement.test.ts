import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { parseSignature } from '../../../src/core/dkim/signature.ts';
import { isAligned } from '../../../src/core/dmarc/aligned.ts';
import { authenticationResults, withoutForgedResults } from '../../../src/core/judgement/authentication-results.ts';
import { type Judgement, judge } from '../../../src/core/judgement/judge.ts';
import { authorsOf } from '../../../src/core/message/authors.ts';
import { parseFields } from '../../../src/core/message/fields.ts';
import { lookupIn } from '../../support/lookup.ts';

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
  it.each(['', 'nobody', '<broken', 'a@', '@', '<>', 'group:;', '()'])('From %j is nobody’s, and that is said', async (from) => {
    expect(await arrive(from)).toMatchObject({ isAuthorClear: false, dmarc: { result: 'permerror', disposition: 'none' } });
  });
  it('a message without From has no author; with two of them nobody knows which is shown', async () => {
    const facts = { clientAddress: '203.0.113.9', helo: 'x.example', sender: 'x@free.example' };
    const of = (header: string) =>
      judge({ ...facts, content: Buffer.from(`${header}\r\nbody\r\n`) }, lookupIn(ZONE), { receiver: 'r', now: 0, draw: 0 });
    expect(await of('Subject: x\r\n')).toMatchObject({ isAuthorClear: false });
    expect(await of('From: x@free.example\r\nFrom: ceo@shop.example\r\n')).toMatchObject({
      isAuthorClear: false,
      dmarc: { result: 'fail', domain: 'shop.example', disposition: 'reject' },
    });
  });
  // However it is broken, there is one address, and every program that shows one shows that.
  it.each([
    'Doe, John <ceo@shop.example>',
    'Bank ceo@shop.example',
    '<ceo@shop.example',
    'ceo @ shop.example',
    'ceo@shop.example junk',
    '<ceo@shop.example> junk',
    'ceo(x)@(y)shop.example',
    'ceo@shop.example <ceo@shop.example>',
    '"ceo@shop.example',
    '(ceo@shop.example',
    '=?utf-8?q?ceo=40shop=2Eexample?=',
    'CEO@SHOP.example.',
  ])('From %j is judged by its address', async (from) => {
    expect((await arrive(from, 'x@free.example')).dmarc).toMatchObject({ domain: 'shop.example', disposition: 'reject' });
  });
  // Programs differ: what any of them shows is judged, and that they differ is said.
  it.each([
    'ceo@shop.example <x@free.example>',
    'ceo@shop.example: x@free.example;',
    '<x@free.example> "ceo@shop.example"',
    '<x@free.example> <ceo@shop.example>',
    'x@free.example ceo@shop.example',
    'x@free.example; ceo@shop.example <',
    'x@free.example (ceo@shop.example',
  ])('From %j is judged by all that it might show', async (from) => {
    const judgement = await arrive(from, 'x@free.example');
    expect(judgement.isAuthorClear).toBe(false);
    expect(judgement.dmarc).toMatchObject({ domain: 'shop.example', disposition: 'reject' });
  });
  it('what the grammar allows is clear: names, comments, groups, lists; a name in quotes is only a name', async () => {
    for (const [from, domain] of [
      ['"ceo@shop.example" <x@free.example>', 'free.example'],
      ['x@free.example (ceo@shop.example)', 'free.example'],
      ['=?utf-8?q?ceo=40shop=2Eexample?= <x@free.example>', 'free.example'],
      ['Team: a@free.example, "b c"@free.example;', 'free.example'],
    ] as const) {
      const judgement = await arrive(from, 'x@free.example');
      expect([from, judgement.isAuthorClear, judgement.dmarc.domain, judgement.dmarc.result]).toEqual([from, true, domain, 'none']);
    }
  });
  // What no DNS can have, or a program may show as something else, is nobody's name (RFC 5322 §3.4.1, RFC 7489 §6.6.1).
  it.each([
    ...[
      'ceo@_x.shop.example',
      'ceo@-a.shop.example',
      'ceo@shop-.example',
      `ceo@${'a'.repeat(64)}.shop.example`,
      'ceo@shop',
      'root@localhost',
    ],
    ...['/', '?', '#', '&', "'", '_', '\\', '!', '%', '*', '.', '..', ' x', '\u00a0', '\u200b', '\u202e', '\ufeff', '\u00ad'].map(
      (end) => `ceo@shop.example${end}`,
    ),
    ...[
      'ceo@shop..example',
      'ceo@.shop.example',
      'ceo@[shop.example]',
      'ceo@[192.0.2.1]',
      'ceo@shop.exa\u200bmple',
      '\u200bceo@shop.example',
    ],
    ...[
      '"ceo@shop.example"',
      '<"ceo@shop.example">',
      "<'ceo@shop.example'>",
      'ceo\\@shop.example',
      'ceo@shop\r\n .example',
      '<ceo@shop .example>',
    ],
    ...[
      'ceo@shop.example\r\nFrom: x@free.example',
      'shop.example',
      '',
      '<>',
      'undisclosed:;',
      'Foo, =?utf-8?q?ceo=40shop?= <x@free.example>',
    ],
  ])('From %j is no clear author', async (from) => {
    expect((await arrive(from, 'x@free.example')).isAuthorClear).toBe(false);
  });
  it.each([
    ['raw Latin-1', Buffer.from('ceo@sh\u00f6p.example', 'latin1')],
    ['an overlong coding', Buffer.concat([Buffer.from('ceo@shop'), Buffer.from([0xc0, 0xae]), Buffer.from('example')])],
  ])('%s is no clear author', (_what, value) => {
    const header = Buffer.concat([Buffer.from('From: '), value, Buffer.from('\r\n\r\n')]);
    expect(authorsOf(parseFields(header)).isClear).toBe(false);
  });
  it.each([
    'Foo, Inc. <x@free.example>',
    'Dr. Ana <x@free.example>',
    'x@free.example',
    'J\u00f6rg <j\u00f6rg@fr\u00e9e.example>',
    "o'neil@free.example",
  ])('From %j is clear, as people write it', async (from) => {
    expect((await arrive(from, 'x@free.example')).isAuthorClear).toBe(true);
  });
  it('more domains than anybody writes for are no author', async () => {
    const many = (count: number): string => Array.from({ length: count }, (_none, at) => `a@d${at}.example`).join(', ');
    expect([(await arrive(many(8))).isAuthorClear, (await arrive(many(9))).isAuthorClear]).toEqual([true, false]);
  });
  it('a name beyond ASCII is asked for by its A-label (RFC 6532, RFC 5890)', async () => {
    const zone: typeof ZONE = [['_dmarc.xn--caf-dma.example', 'TXT', 'v=DMARC1; p=reject']];
    const of = (from: string) =>
      judge({ clientAddress: '203.0.113.9', helo: 'x.example', sender: 'x@free.example', content: message(from) }, lookupIn(zone), {
        receiver: 'r',
        now: 0,
        draw: 0,
      });
    for (const from of ['ana@café.example', 'Ana <ána@CAFÉ.example>', 'ana@xn--caf-dma.example'])
      expect((await of(from)).dmarc).toMatchObject({ domain: 'xn--caf-dma.example', disposition: 'reject' });
  });
  it.each(['/', '?', '#', '\\', ':', '@', '%2f', ' ', '\0', '_'])('what holds %j is no domain: it is aligned with nobody', async (sign) => {
    const name = `shop.example${sign}.evil.example`;
    const signature = parseSignature({ name: 'DKIM-Signature', value: `v=1; a=rsa-sha256; d=${name}; s=k; h=from; bh=AA; b=AA`, raw: '' });
    expect(signature).toMatchObject({ kind: 'invalid', reason: 'd= is not a domain name' });
    expect([isAligned(name, 'shop.example', false), isAligned('shop.example', name, false), isAligned(name, name, true)]).toEqual([
      false,
      false,
      false,
    ]);
    const judgement = await judge(
      { clientAddress: '192.0.2.1', helo: name, sender: '', content: message('ceo@shop.example') },
      async (asked, type) =>
        type === 'TXT' && asked.includes('evil')
          ? { kind: 'found', values: ['v=spf1 +all'] as never, ttl: 1, alias: null }
          : lookupIn(ZONE)(asked, type),
      { receiver: 'r', now: 0, draw: 0 },
    );
    expect(judgement.dmarc).toMatchObject({ result: 'fail', disposition: 'reject' });
  });
  it('the policy is asked for first, and signatures of silent servers are waited for together', async () => {
    const asked: string[] = [];
    let waiting = 0;
    let most = 0;
    const signatures = Array.from(
      { length: 25 },
      (_none, at) =>
        `DKIM-Signature: v=1; a=rsa-sha256; d=d${at}.example; s=k; h=from; bh=frcCV1k9oG9oKj3dpUqdJg1PxRT2RSN/XKdLCPjaYaY=; b=AA\r\n`,
    );
    const judgement = await judge(
      {
        clientAddress: '203.0.113.9',
        helo: 'x.example',
        sender: 'x@free.example',
        content: Buffer.from(`${signatures.join('')}From: ceo@shop.example\r\n\r\n`),
      },
      async (name, type) => {
        asked.push(name);
        if (!name.includes('_domainkey')) return lookupIn(ZONE)(name, type);
        waiting += 1;
        most = Math.max(most, waiting);
        await new Promise((resolve) => setImmediate(resolve));
        waiting -= 1;
        return { kind: 'failed', reason: 'silent' };
      },
      { receiver: 'r', now: 0, draw: 0 },
    );
    expect(asked[0]).toBe('_dmarc.shop.example');
    expect(most).toBe(8);
    expect(judgement.dmarc).toMatchObject({ result: 'fail', disposition: 'reject' });
  });
});

describe('the field (RFC 8601)', () => {
  it.each([
    ['a@b@c.example', '"a@b@c.example"'],
    ['a b.example', '"a?b.example"'],
    ['[192.0.2.1]', '"[192.0.2.1]"'],
    ['a;dmarc=pass', '"a;dmarc=pass"'],
    ['mx_1.shop.example', 'mx_1.shop.example'],
  ])('HELO %s is written as %s', async (helo, written) => {
    const judgement = await judge({ clientAddress: '192.0.2.1', helo, sender: '', content: message('a@b.example') }, lookupIn([]), {
      receiver: 'r',
      now: 0,
      draw: 0,
    });
    const field = authenticationResults('mail.host.example', judgement, '').replace(/\r\n[ \t]+/g, ' ');
    expect(/smtp\.helo=(.*?);/.exec(field.replace('a;dmarc', 'a,dmarc'))?.[1]).toBe(written.replace('a;dmarc', 'a,dmarc'));
  });
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
      'Authentication-Results: mail.host.example.; dmarc=pass\r\n',
      'Authentication-Results\r\n : mail.host.example; dmarc=pass\r\n',
      'Authentication-Results: mail(x).host\r\n\t.example; dmarc=pass\r\n',
      'Authentication-Results: "mail.ho\\st.example"; dmarc=pass\r\n',
      'Authentication-Results: mail.host.example..1; dmarc=pass\r\n',
      'Authentication-Results: (mail.host.example; dmarc=pass\r\n',
      'Authentication-Results.: mail.host.example; dmarc=pass\r\n',
    ];
    const rest =
      'From: a@b.example\r\nX-Authentication-Results: mail.host.example; x\r\n\r\nAuthentication-Results: mail.host.example; in the body\r\n';
    const cleaned = withoutForgedResults(Buffer.from(forged[0] + other + forged.slice(1).join('') + rest), 'mail.host.example');
    expect(cleaned.removed).toBe(forged.length);
    expect(cleaned.message.toString()).toBe(other + rest);
  });
});
