import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { evaluateSpf, type SpfQuestion } from '../../src/core/spf/evaluate.ts';
import { expandMacros } from '../../src/core/spf/macros.ts';
import { mergeSpf } from '../../src/core/spf/merge.ts';
import { isSpf, parseSpf } from '../../src/core/spf/record.ts';
import { lookupIn } from '../support/lookup.ts';

const ask = (
  record: string | string[],
  client: string,
  more: Parameters<typeof lookupIn>[0] = [],
  silent: string[] = [],
  sender = 'strong-bad@example.com',
) => {
  const question: SpfQuestion = { clientAddress: client, sender, domain: sender.slice(sender.indexOf('@') + 1), helo: 'mx.example.org' };
  const records = [record].flat().map((text) => [question.domain, 'TXT', text] as [string, 'TXT', string]);
  return evaluateSpf(question, lookupIn([...records, ...more], silent));
};

/** RFC 7208 appendix A: the zone of its examples. */
const APPENDIX_A: Parameters<typeof lookupIn>[0] = [
  ['example.com', 'A', '192.0.2.10'],
  ['example.com', 'A', '192.0.2.11'],
  ['amy.example.com', 'A', '192.0.2.65'],
  ['bob.example.com', 'A', '192.0.2.66'],
  ['mail-a.example.com', 'A', '192.0.2.129'],
  ['mail-b.example.com', 'A', '192.0.2.130'],
  ['example.com', 'MX', '10 mail-a.example.com'],
  ['example.com', 'MX', '20 mail-b.example.com'],
  ['example.org', 'MX', '10 mail-c.example.org'],
  ['mail-c.example.org', 'A', '192.0.2.140'],
  ['10.2.0.192.in-addr.arpa', 'PTR', 'example.com'],
  ['65.2.0.192.in-addr.arpa', 'PTR', 'amy.example.com'],
  ['140.2.0.192.in-addr.arpa', 'PTR', 'mail-c.example.org'],
  ['4.0.0.10.in-addr.arpa', 'PTR', 'bob.example.com'],
];

describe('SPF by the examples of RFC 7208 appendix A.1', () => {
  it.each([
    ['v=spf1 +all', '203.0.113.5', 'pass'],
    ['v=spf1 a -all', '192.0.2.10', 'pass'],
    ['v=spf1 a -all', '192.0.2.65', 'fail'],
    ['v=spf1 a:example.org -all', '192.0.2.10', 'fail'],
    ['v=spf1 mx -all', '192.0.2.129', 'pass'],
    ['v=spf1 mx -all', '192.0.2.140', 'fail'],
    ['v=spf1 mx:example.org -all', '192.0.2.140', 'pass'],
    ['v=spf1 mx mx:example.org -all', '192.0.2.140', 'pass'],
    ['v=spf1 mx/30 mx:example.org/30 -all', '192.0.2.131', 'pass'],
    ['v=spf1 mx/30 mx:example.org/30 -all', '192.0.2.143', 'pass'],
    ['v=spf1 mx/30 mx:example.org/30 -all', '192.0.2.144', 'fail'],
    ['v=spf1 ptr -all', '192.0.2.65', 'pass'],
    ['v=spf1 ptr -all', '192.0.2.140', 'fail'],
    ['v=spf1 ptr -all', '10.0.0.4', 'fail'],
    ['v=spf1 ip4:192.0.2.128/28 -all', '192.0.2.129', 'pass'],
    ['v=spf1 ip4:192.0.2.128/28 -all', '192.0.2.65', 'fail'],
  ])('%s asked by %s gives %s', async (record, client, result) => {
    expect((await ask(record, client, APPENDIX_A)).result).toBe(result);
  });
});

it('expands the macros of RFC 7208 §7.4', () => {
  const facts = {
    sender: 'strong-bad@email.example.com',
    domain: 'email.example.com',
    clientAddress: '192.0.2.3',
    helo: 'h',
    validatedName: 'mx.example.org',
  };
  const six = { ...facts, clientAddress: '2001:db8::cb01' };
  const expected: [string, string, object?][] = [
    ['%{s}', 'strong-bad@email.example.com'],
    ['%{o}', 'email.example.com'],
    ['%{d}', 'email.example.com'],
    ['%{d4}', 'email.example.com'],
    ['%{d3}', 'email.example.com'],
    ['%{d2}', 'example.com'],
    ['%{d1}', 'com'],
    ['%{dr}', 'com.example.email'],
    ['%{d2r}', 'example.email'],
    ['%{l}', 'strong-bad'],
    ['%{l-}', 'strong.bad'],
    ['%{lr}', 'strong-bad'],
    ['%{lr-}', 'bad.strong'],
    ['%{l1r-}', 'strong'],
    ['%{ir}.%{v}._spf.%{d2}', '3.2.0.192.in-addr._spf.example.com'],
    ['%{lr-}.lp._spf.%{d2}', 'bad.strong.lp._spf.example.com'],
    ['%{lr-}.lp.%{ir}.%{v}._spf.%{d2}', 'bad.strong.lp.3.2.0.192.in-addr._spf.example.com'],
    ['%{d2}.trusted-domains.example.net', 'example.com.trusted-domains.example.net'],
    ['%{ir}.%{v}._spf.%{d2}', '1.0.b.c.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6._spf.example.com', six],
    ['%{p}%%%_%-', 'mx.example.org% %20'],
  ];
  for (const [spec, text, given] of expected) expect(expandMacros(spec, (given ?? facts) as typeof facts), spec).toBe(text);
});

describe('limits and errors', () => {
  it('stops at eleven look-ups, through includes (§4.6.4)', async () => {
    const includes = Array.from({ length: 11 }, (_none, at) => ['', 'TXT', at] as const).map(
      ([, , at]) => [`s${at}.example`, 'TXT', 'v=spf1 ?ip4:203.0.113.9'] as [string, 'TXT', string],
    );
    const record = `v=spf1 ${includes.map(([name]) => `include:${name}`).join(' ')} +all`;
    expect(await ask(record, '192.0.2.1', includes)).toMatchObject({ result: 'permerror', lookups: 11 });
    expect(await ask(record.replace('include:s10.example ', ''), '192.0.2.1', includes)).toMatchObject({ result: 'pass', lookups: 10 });
  });
  it('a record that includes itself ends', async () => {
    expect((await ask('v=spf1 include:example.com -all', '192.0.2.1')).result).toBe('permerror');
    expect((await ask('v=spf1 redirect=example.com', '192.0.2.1')).result).toBe('permerror');
  });
  it('more than two void look-ups are a permanent error', async () => {
    expect((await ask('v=spf1 a:x.example a:y.example -all', '192.0.2.1')).result).toBe('fail');
    expect((await ask('v=spf1 a:x.example a:y.example a:z.example -all', '192.0.2.1')).result).toBe('permerror');
  });
  it('silence is a temporary error, never a fail', async () => {
    expect((await ask('v=spf1 a:quiet.example -all', '192.0.2.1', [], ['quiet.example'])).result).toBe('temperror');
    expect((await ask('v=spf1 -all', '192.0.2.1', [], ['example.com'])).result).toBe('temperror');
  });
  it.each([
    [['v=spf1 -all', 'v=spf1 +all'], 'permerror'],
    [['v=spf10 -all'], 'none'],
    [[], 'none'],
    [['v=spf1 include:nothing.example -all'], 'permerror'],
    [['v=spf1 redirect=nothing.example'], 'permerror'],
    [['v=spf1 ip4:192.0.2.0/33 -all'], 'permerror'],
    [['v=spf1 mystery:x -all'], 'permerror'],
    [['v=spf1 future=yes ~all'], 'softfail'],
    [['v=spf1 ip4:203.0.113.1'], 'neutral'],
    [['v=spf1 ip6:2001:db8::/32 -all'], 'fail'],
  ])('%j gives %s', async (records, result) => {
    expect((await ask(records as string[], '192.0.2.1')).result).toBe(result);
  });
  it('covers IPv6 by ip6, a and mx', async () => {
    const more: Parameters<typeof lookupIn>[0] = [
      ['six.example', 'AAAA', '2001:DB8:25::25'],
      ['example.com', 'MX', '10 six.example'],
    ];
    for (const term of ['ip6:2001:db8:25::/48', 'a:six.example', 'mx', 'a:six.example//48', 'mx//64'])
      expect((await ask(`v=spf1 ${term} -all`, '2001:db8:25::25', more)).result, term).toBe('pass');
  });
});

it('names the broken term and where it stands', () => {
  expect(parseSpf('v=spf1 mx ipv4:192.0.2.1 -all')).toEqual({
    kind: 'invalid',
    term: 'ipv4:192.0.2.1',
    position: 10,
    reason: 'there is no mechanism "ipv4"',
  });
});

it('no text makes it throw or run on', async () => {
  const term = fc.oneof(
    fc.constantFrom('a', 'mx', 'ptr', 'all', 'include:', 'exists:%{i}.x', 'redirect=', 'ip4:', 'ip6:', '/', '//64', '-', '%{s', 'exp='),
    fc.string({ maxLength: 12 }),
  );
  await fc.assert(
    fc.asyncProperty(fc.array(term, { maxLength: 20 }), async (terms) => {
      const outcome = await ask(`v=spf1 ${terms.join(' ')}`, '192.0.2.1', APPENDIX_A);
      expect(outcome.lookups).toBeLessThanOrEqual(11);
    }),
    { numRuns: 500 },
  );
});

it('a merged record lets the host in, keeps what was there, and is one valid record', () => {
  const mechanism = fc.constantFrom('mx', 'a', 'ip4:203.0.113.7', 'include:x.example', 'ip6:2001:db8::/32', 'a:mail.host.example');
  const record = fc
    .tuple(fc.array(mechanism, { maxLength: 4 }), fc.constantFrom('-all', '~all', '?all', ''))
    .map(([terms, all]) => ['v=spf1', ...terms, all].join(' ').trim());
  fc.assert(
    fc.property(fc.array(record, { minLength: 1, maxLength: 3 }), (records) => {
      const merged = mergeSpf(records, 'a:mail.host.example');
      const parsed = parseSpf(merged);
      expect(isSpf(merged) && parsed.kind === 'ok').toBe(true);
      const terms = merged.split(' ');
      expect(new Set(terms).size).toBe(terms.length);
      for (const term of records.flatMap((text) => text.split(' ').slice(1)).filter((one) => !one.endsWith('all')))
        expect(terms).toContain(term);
      expect(terms.at(-1)).toMatch(/^[-~]all$/);
      expect(terms).toContain('a:mail.host.example');
    }),
  );
});
