import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { evaluateHelo, evaluateSpf } from '../../../src/core/spf/evaluate.ts';
import { expandMacros } from '../../../src/core/spf/macros.ts';
import { isSpf, parseSpf } from '../../../src/core/spf/record.ts';
import type { SpfQuestion } from '../../../src/core/spf/run.ts';
import { lookupIn } from '../../support/lookup.ts';

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
  it.each([
    [10, 'pass'],
    [11, 'permerror'],
  ])('%i MX names come to %s (§4.6.4)', async (names, result) => {
    const at = (number: number) => `mx${number}.example.com`;
    const zone = Array.from({ length: names }, (_, number): ['example.com', 'MX', string] => ['example.com', 'MX', `10 ${at(number)}`]);
    const addresses = zone.map((_, number): [string, 'A', string] => [at(number), 'A', `192.0.2.${number + 1}`]);
    expect((await ask('v=spf1 mx -all', '192.0.2.10', [...zone, ...addresses])).result).toBe(result);
  });
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
  it.each([
    // §4.6, §12: an unknown modifier is passed over, what breaks the grammar is not.
    ['v=spf1 note=%{d2} -all', 'fail'],
    ['v=spf1 note=%{z} -all', 'permerror'],
    ['v=spf1 note=100% -all', 'permerror'],
    ['v=spf1 note=é -all', 'permerror'],
    ['v=spf1 note= -all', 'fail'],
    // §7.1: a domain-spec ends in a macro, or in a dot and a top label.
    ['v=spf1 exists:no.%% -all', 'fail'],
    ['v=spf1 exists:no%_ -all', 'fail'],
    ['v=spf1 exists:no.%%x -all', 'permerror'],
    ['v=spf1 a:localhost -all', 'permerror'],
    ['v=spf1 include:com -all', 'permerror'],
    ['v=spf1 a:x.123 -all', 'permerror'],
    ['v=spf1 a:x.1-2 -all', 'fail'],
    ['v=spf1 a:bücher.example -all', 'permerror'],
    // §5.5: a final dot is no part of the name.
    ['v=spf1 ptr:example.com. -all', 'pass', '192.0.2.65'],
    // §5: an IPv4 address in an IPv6 dress is an IPv4 address, in the question and in no record.
    ['v=spf1 ip4:192.0.2.0/24 -all', 'pass', '::ffff:192.0.2.1'],
    ['v=spf1 a -all', 'pass', '::ffff:c000:20a'],
    ['v=spf1 ip6:::ffff:192.0.2.0/120 -all', 'fail', '192.0.2.1'],
    ['v=spf1 exists:%{i}.%{v}.found.example -all', 'pass', '::ffff:192.0.2.1'],
  ])('“%s” gives %s', async (record, result, client = '192.0.2.1') => {
    const more: Parameters<typeof lookupIn>[0] = [...APPENDIX_A, ['192.0.2.1.in-addr.found.example', 'A', '127.0.0.2']];
    expect((await ask(record, client, more)).result).toBe(result);
  });
  it('a term whose names lead nowhere is one void look-up, however many they are (§4.6.4)', async () => {
    const mx: Parameters<typeof lookupIn>[0] = [1, 2, 3].map((at) => ['example.com', 'MX', `10 gone${at}.example.com`]);
    expect((await ask('v=spf1 mx -all', '192.0.2.1', mx)).result).toBe('fail');
    expect((await ask('v=spf1 mx a:x.example -all', '192.0.2.1', mx)).result).toBe('fail');
    expect((await ask('v=spf1 mx a:x.example a:y.example -all', '192.0.2.1', mx)).result).toBe('permerror');
  });
  it.each([
    ['Only %{d2}, at %{t}: %{c} %%', 'Only example.com, at 7: 192.0.2.1 %'],
    ['See %{z}', null],
    ['100% sure', null],
    ['%{', null],
    ['naïve', null],
  ])('an explanation “%s” comes out as %j (§6.2)', async (text, explanation) => {
    const zone = lookupIn([
      ['example.com', 'TXT', 'v=spf1 -all exp=why.example.com'],
      ['why.example.com', 'TXT', text],
    ]);
    const question = { clientAddress: '::ffff:192.0.2.1', sender: 'x@example.com', domain: 'example.com', helo: 'h', receiver: 'r', at: 7 };
    expect(await evaluateSpf(question, zone)).toMatchObject({ result: 'fail', explanation });
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

describe('each rule of the grammar, by a term that keeps it and one that does not (RFC 7208 §12)', () => {
  const reason = (terms: string): string | null => {
    const parsed = parseSpf(`v=spf1 ${terms}`);
    return parsed.kind === 'ok' ? null : `${parsed.term}: ${parsed.reason}`;
  };
  it.each([
    ['a/24//64 mx//128 a:x.example/0 -mx:x.example/32//0 ?all', null],
    ['a:x.example/y.example', null],
    ['a/33', 'a/33: the length /33 is out of range'],
    ['mx//129', 'mx//129: the length //129 is out of range'],
    ['a/24//129', 'a/24//129: the length /24//129 is out of range'],
    ['a/024', 'a/024: the length /024 is out of range'],
    ['a/', 'a/: it is no mechanism and no modifier'],
    ['a//', 'a//: it is no mechanism and no modifier'],
    ['ptr/24', 'ptr/24: ptr takes no length'],
    ['exists:x.example//64', 'exists:x.example//64: exists takes no length'],
    ['all:x.example', 'all:x.example: all takes no value'],
    ['all/8', 'all/8: all takes no length'],
    ['include', 'include: include needs a domain name'],
    ['exists', 'exists: exists needs a domain name'],
    ['ip4', 'ip4: ip4 needs an address'],
    ['ip6', 'ip6: ip6 needs an address'],
    ['ip4:192.0.2.1/32 ip4:192.0.2.1 ip6:2001:db8::1/128 IP6:2001:DB8::1', null],
    ['ip4:192.0.2.1/33', 'ip4:192.0.2.1/33: the length /33 is out of range'],
    ['ip6:2001:db8::/129', 'ip6:2001:db8::/129: the length /129 is out of range'],
    ['ip4:192.0.2.1/', 'ip4:192.0.2.1/: ip4 needs an address'],
    ['ip4:192.0.2', 'ip4:192.0.2: "192.0.2" is no IPv4 address'],
    ['ip4:192.0.2.256', 'ip4:192.0.2.256: "192.0.2.256" is no IPv4 address'],
    ['ip4:192.0.2.01', 'ip4:192.0.2.01: "192.0.2.01" is no IPv4 address'],
    ['ip4:2001:db8::1', 'ip4:2001:db8::1: "2001:db8::1" is no IPv4 address'],
    ['ip6:192.0.2.1', 'ip6:192.0.2.1: "192.0.2.1" is no IPv6 address'],
    ['ip6:2001:db8::g', 'ip6:2001:db8::g: "2001:db8::g" is no IPv6 address'],
    ['ip6:1:2:3', 'ip6:1:2:3: "1:2:3" is no IPv6 address'],
    ['!all', '!all: it is no mechanism and no modifier'],
    ['+-all', '+-all: it is no mechanism and no modifier'],
    ['al', 'al: there is no mechanism "al"'],
    ['redirect=x.example redirect=y.example', 'redirect=y.example: there is more than one redirect='],
    ['exp=x.example Exp=y.example', 'Exp=y.example: there is more than one exp='],
    ['redirect=', 'redirect=: redirect= needs a domain name'],
    ['exp=localhost', 'exp=localhost: exp= needs a domain name'],
    ['1x=y', '1x=y: it is no mechanism and no modifier'],
    ['x.y-z_1=%%%_%-%{D2R.-+,/_=}', null],
    ['include:%{d', 'include:%{d: "%{d" is not a domain name'],
    ['include:%{d0}', 'include:%{d0}: "%{d0}" is not a domain name'],
    ['include:%{c}', 'include:%{c}: "%{c}" is not a domain name'],
    ['include:x.example-', 'include:x.example-: "x.example-" is not a domain name'],
    ['include:x.example.', null],
    ['INCLUDE:X.EXAMPLE A MX ALL', null],
  ])('%s', (terms, expected) => expect(reason(terms)).toBe(expected));
  it('what is a record at all (§4.5)', () => {
    for (const text of ['v=spf1', 'V=SPF1 -all', 'v=spf1 ']) expect([text, isSpf(text)]).toEqual([text, true]);
    for (const text of ['', 'v=spf10', ' v=spf1', 'xv=spf1', 'v=spf1\t-all', 'v=spf2.0/pra'])
      expect([text, isSpf(text)]).toEqual([text, false]);
  });
});

describe('who is asked about, and what is compared', () => {
  const host = async (domain: string, client = '192.0.2.1', sender = `x@${domain}`) =>
    evaluateSpf(
      { clientAddress: client, sender, domain, helo: 'mx.example.org' },
      lookupIn([...APPENDIX_A, [domain, 'TXT', 'v=spf1 +all']]),
    );
  it('names that can have a record, and those that can’t (§4.3)', async () => {
    const long = `${'a'.repeat(63)}.${'b'.repeat(63)}.${'c'.repeat(63)}.${'d'.repeat(61)}`;
    for (const good of ['a.b', 'example.com', long]) expect([good, (await host(good)).result]).toEqual([good, 'pass']);
    for (const bad of ['', 'localhost', '.example.com', 'a..b', '[192.0.2.1]', 'a b.example', `${'a'.repeat(64)}.example`, `${long}e`])
      expect([bad, (await host(bad)).result]).toEqual([bad, 'none']);
    expect((await host('x'.repeat(200))).reason.length).toBeLessThan(140);
  });
  it('a sender without a local part is postmaster (§4.3)', async () => {
    const zone = lookupIn([
      ['example.com', 'TXT', 'v=spf1 exists:%{l}.found.example -all'],
      ['postmaster.found.example', 'A', '127.0.0.2'],
    ]);
    for (const sender of ['', '@example.com', 'example.com', 'postmaster@example.com'])
      expect((await evaluateSpf({ clientAddress: '192.0.2.1', sender, domain: 'example.com', helo: 'h' }, zone)).result).toBe('pass');
    expect(
      (await evaluateSpf({ clientAddress: '192.0.2.1', sender: 'x@example.com', domain: 'example.com', helo: 'h' }, zone)).result,
    ).toBe('fail');
  });
  it('HELO is asked for in lower case, as postmaster', async () => {
    const zone = lookupIn([
      ['mx.example.org', 'TXT', 'v=spf1 exists:%{l}.%{d}.found.example -all'],
      ['postmaster.mx.example.org.found.example', 'A', '127.0.0.2'],
    ]);
    expect((await evaluateHelo({ clientAddress: '192.0.2.1', helo: 'MX.Example.ORG' }, zone)).result).toBe('pass');
  });
  it('a client’s names: only those that lead back, at most ten, and the nearest for %{p} (§5.5, §7.3)', async () => {
    const names = (list: string[]): Parameters<typeof lookupIn>[0] => list.map((name) => ['1.2.0.192.in-addr.arpa', 'PTR', name]);
    const back = (list: string[], address = '192.0.2.1'): Parameters<typeof lookupIn>[0] => list.map((name) => [name, 'A', address]);
    const others = ['far.example', 'www.example.com', 'example.com'];
    const result = async (record: string, zone: Parameters<typeof lookupIn>[0]) => (await ask(record, '192.0.2.1', zone)).result;
    expect(await result('v=spf1 ptr -all', [...names(['example.com']), ...back(['example.com'])])).toBe('pass');
    expect(await result('v=spf1 ptr -all', [...names(['www.EXAMPLE.com']), ...back(['www.example.com'])])).toBe('pass');
    expect(await result('v=spf1 ptr -all', [...names(['www.example.com']), ...back(['www.example.com'], '192.0.2.2')])).toBe('fail');
    expect(await result('v=spf1 ptr -all', [...names(['myexample.com']), ...back(['myexample.com'])])).toBe('fail');
    const eleven = Array.from({ length: 10 }, (_none, at) => `n${at}.far.example`);
    expect(await result('v=spf1 ptr -all', [...names([...eleven, 'example.com']), ...back(['example.com', ...eleven])])).toBe('fail');
    const p = async (list: string[]): Promise<string> => {
      const zone = [...names(list), ...back(list)];
      for (const name of [...others, 'unknown'])
        if ((await result(`v=spf1 exists:%{p}.found.test -all`, [...zone, [`${name}.found.test`, 'A', '127.0.0.2']])) === 'pass')
          return name;
      return '?';
    };
    expect([await p(others), await p(['far.example', 'www.example.com']), await p(['far.example']), await p([])]).toEqual([
      'example.com',
      'www.example.com',
      'far.example',
      'unknown',
    ]);
  });
  it('a null MX and an address that is none match nothing', async () => {
    expect((await ask('v=spf1 mx -all', '192.0.2.1', [['example.com', 'MX', '0 .']])).result).toBe('fail');
    for (const client of ['nonsense', '']) expect((await ask('v=spf1 ip4:192.0.2.0/24 a -all', client, APPENDIX_A)).result).toBe('fail');
    expect((await ask('v=spf1 ip4:192.0.2.0/24 -all', '192.0.2.9')).result).toBe('pass');
    expect((await ask('v=spf1 a/24 -all', '192.0.2.9', APPENDIX_A)).result).toBe('pass');
    expect((await ask('v=spf1 ip6:2001:db8::1 -all', '2001:db8::2')).result).toBe('fail');
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

describe('SPF by the further examples of RFC 7208 appendix A', () => {
  const ZONE: Parameters<typeof lookupIn>[0] = [
    ...APPENDIX_A,
    // A.2: the policy of one domain used by others.
    ['example.org', 'TXT', 'v=spf1 include:example.com include:example.net -all'],
    ['la.example.org', 'TXT', 'v=spf1 redirect=example.org'],
    ['example.com', 'TXT', 'v=spf1 a mx -all'],
    ['example.net', 'TXT', 'v=spf1 ip4:203.0.113.0/24 -all'],
    // A.3: senders in a list of their own.
    ['mary.mobile-users._spf.example.com', 'A', '127.0.0.2'],
    ['fred.mobile-users._spf.example.com', 'A', '127.0.0.2'],
    ['15.15.168.192.joel.remote-users._spf.example.com', 'A', '127.0.0.2'],
    ['lists.example.com', 'TXT', 'v=spf1 mx include:mobile-users._spf.%{d} include:remote-users._spf.%{d} -all'],
    ['mobile-users._spf.lists.example.com', 'TXT', 'v=spf1 exists:%{l1r+}.mobile-users._spf.example.com'],
    ['remote-users._spf.lists.example.com', 'TXT', 'v=spf1 exists:%{ir}.%{l1r+}.remote-users._spf.example.com'],
    ['lists.example.com', 'MX', '10 mail-a.example.com'],
    // A.4: several requirements at once.
    ['strict.example.com', 'TXT', 'v=spf1 -include:ip4._spf.example.com -include:ptr._spf.example.com +all'],
    ['ip4._spf.example.com', 'TXT', 'v=spf1 -ip4:192.0.2.0/24 +all'],
    ['ptr._spf.example.com', 'TXT', 'v=spf1 -ptr:example.com +all'],
  ];
  const by = (sender: string, clientAddress: string) =>
    evaluateSpf({ clientAddress, sender, domain: sender.slice(sender.indexOf('@') + 1), helo: 'h.example' }, lookupIn(ZONE));
  it.each([
    ['amy@example.org', '192.0.2.10', 'pass'],
    ['amy@example.org', '203.0.113.9', 'pass'],
    ['amy@example.org', '192.0.2.200', 'fail'],
    ['amy@la.example.org', '203.0.113.9', 'pass'],
    ['amy@la.example.org', '192.0.2.200', 'fail'],
    ['mary@lists.example.com', '192.0.2.200', 'pass'],
    ['mary+news@lists.example.com', '192.0.2.200', 'pass'],
    ['joel@lists.example.com', '192.168.15.15', 'pass'],
    ['joel@lists.example.com', '192.168.15.16', 'fail'],
    ['eve@lists.example.com', '192.0.2.200', 'fail'],
    ['amy@strict.example.com', '192.0.2.65', 'pass'],
    ['amy@strict.example.com', '192.0.2.140', 'fail'],
    ['amy@strict.example.com', '10.0.0.4', 'fail'],
  ])('%s from %s: %s', async (sender, client, result) => expect((await by(sender, client)).result).toBe(result));
});

describe('the words of a fail (§6.2)', () => {
  const facts = (exp: string, text: string | null) =>
    ask(`v=spf1 -all exp=${exp}`, '192.0.2.1', text === null ? [] : [['why.example.com', 'TXT', text]]);
  it('are expanded with the client, the receiver and the time', async () => {
    const question = {
      clientAddress: '2001:db8::1',
      sender: 'a@example.com',
      domain: 'example.com',
      helo: 'h.example',
      receiver: 'mx.r.example',
      at: 7,
    };
    const zone = lookupIn([
      ['example.com', 'TXT', 'v=spf1 -all exp=why.%{d}'],
      ['why.example.com', 'TXT', '%{c} may not send as %{S} to %{r} at %{t}%%'],
    ]);
    expect((await evaluateSpf(question, zone)).explanation).toBe('2001:db8::1 may not send as a%40example.com to mx.r.example at 7%');
  });
  it.each([
    ['nothing', null],
    ['what is no ASCII', 'señal'],
    ['what would end the line', 'a\r\n250 b'],
  ])('are none for %s', async (_what, text) => expect((await facts('why.%{d}', text)).explanation).toBeNull());
  it('are of the target of a redirect, and never of an include', async () => {
    const more: Parameters<typeof lookupIn>[0] = [
      ['other.example', 'TXT', 'v=spf1 -all exp=why.other.example'],
      ['why.other.example', 'TXT', 'ask other'],
      ['why.example.com', 'TXT', 'ask example'],
    ];
    expect((await ask('v=spf1 redirect=other.example', '192.0.2.1', more)).explanation).toBe('ask other');
    expect((await ask('v=spf1 include:other.example -all exp=why.%{d}', '192.0.2.1', more)).explanation).toBe('ask example');
  });
});

it('judges the HELO name, and knows names that can have no record (§2.3, §4.3)', async () => {
  const zone = lookupIn([
    ['mx.shop.example', 'TXT', 'v=spf1 a -all'],
    ['mx.shop.example', 'A', '192.0.2.1'],
  ]);
  const helo = async (name: string) => (await evaluateHelo({ clientAddress: '192.0.2.1', helo: name }, zone)).result;
  expect(await helo('MX.shop.example')).toBe('pass');
  for (const name of ['localhost', '[192.0.2.1]', '', 'a..b', `${'x'.repeat(64)}.example`, 'none.example'])
    expect(await helo(name), name).toBe('none');
});

it('the trace has each term with what it asked and the look-ups so far, as a tree', async () => {
  const outcome = await ask('v=spf1 ip4:203.0.113.1 include:inner.example mx -all', '192.0.2.129', [
    ...APPENDIX_A,
    ['inner.example', 'TXT', 'v=spf1 a:example.org ?all'],
  ]);
  expect(outcome.steps.map(({ depth, kind, text, lookups, outcome: what }) => [depth, kind, text, lookups, what])).toEqual([
    [0, 'record', 'v=spf1 ip4:203.0.113.1 include:inner.example mx -all', 0, 'result'],
    [0, 'term', 'ip4:203.0.113.1', 0, 'no-match'],
    [0, 'term', 'include:inner.example', 1, 'no-match'],
    [1, 'record', 'v=spf1 a:example.org ?all', 1, 'result'],
    [1, 'term', 'a:example.org', 2, 'no-match'],
    [1, 'term', '?all', 2, 'match'],
    [0, 'term', 'mx', 3, 'match'],
  ]);
  expect(outcome.steps.at(-1)?.asked).toEqual([
    { type: 'MX', name: 'example.com', answer: '10 mail-a.example.com | 20 mail-b.example.com' },
    { type: 'A', name: 'mail-a.example.com', answer: '192.0.2.129' },
  ]);
});
