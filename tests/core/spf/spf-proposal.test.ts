import fc from 'fast-check';
import { expect, it } from 'vitest';
import { spfCosts } from '../../../src/core/spf/costs.ts';
import { evaluateSpf } from '../../../src/core/spf/evaluate.ts';
import { leadingHost, proposeSpf } from '../../../src/core/spf/merge.ts';
import { isSpf, parseSpf } from '../../../src/core/spf/record.ts';
import { lookupIn } from '../../support/lookup.ts';

it('counts what each include costs, whichever term would match', async () => {
  const zone = lookupIn([
    ['big.example', 'TXT', 'v=spf1 include:one.example include:two.example mx -all'],
    ['one.example', 'TXT', 'v=spf1 ip4:192.0.2.0/24 -all'],
    ['two.example', 'TXT', 'v=spf1 a mx exists:%{i}.x.example redirect=big.example'],
  ]);
  expect(await spfCosts('v=spf1 ip4:192.0.2.1 include:big.example a -all', 'shop.example', zone)).toEqual({
    total: 9,
    terms: [
      { term: 'include:big.example', lookups: 8 },
      { term: 'a', lookups: 1 },
    ],
  });
});

const HOST = { name: 'mail.host.example', addresses: ['192.0.2.25', '2001:db8:25::25'] };
const OURS = leadingHost(HOST);
const ZONE: Parameters<typeof lookupIn>[0] = [
  ['mail.host.example', 'A', '192.0.2.25'],
  ['mail.host.example', 'AAAA', '2001:db8:25::25'],
  ['shop.example', 'A', '203.0.113.1'],
  ['shop.example', 'MX', '10 mx.shop.example'],
  ['mx.shop.example', 'A', '203.0.113.2'],
  ['x.example', 'TXT', 'v=spf1 ip4:203.0.113.128/25 -all'],
];

it('a proposed record lets the host in, keeps what was there, and is one valid record', async () => {
  const mechanism = fc.constantFrom('mx', 'a', 'ip4:203.0.113.7', 'include:x.example', 'ip6:2001:db8::/32', 'a:mail.host.example');
  const record = fc
    .tuple(fc.array(mechanism, { maxLength: 4 }), fc.constantFrom('-all', '~all', '?all', '+all', ''))
    .map(([terms, all]) => ['v=spf1', ...terms, all].join(' ').trim());
  await fc.assert(
    fc.asyncProperty(fc.array(record, { minLength: 1, maxLength: 3 }), async (records) => {
      const { value } = await proposeSpf('shop.example', records, OURS, lookupIn(ZONE));
      expect(isSpf(value) && parseSpf(value).kind === 'ok').toBe(true);
      const terms = value.split(' ');
      expect(new Set(terms).size).toBe(terms.length);
      for (const term of records.flatMap((text) => text.split(' ').slice(1)).filter((one) => !one.endsWith('all')))
        expect(terms).toContain(term);
      expect(terms.at(-1)).toMatch(/^[-~]all$/);
      for (const clientAddress of HOST.addresses) {
        const zone = lookupIn([...ZONE, ['shop.example', 'TXT', value]]);
        const question = { clientAddress, sender: 'a@shop.example', domain: 'shop.example', helo: 'h.example' };
        expect((await evaluateSpf(question, zone)).result, value).toBe('pass');
      }
    }),
    { numRuns: 60 },
  );
});

it('a proposed record drops what is dead, says why, and gets under the limit', async () => {
  const proposal = await proposeSpf(
    'shop.example',
    [
      'v=spf1 +mx a:gone.example include:none.example ptr mx ip4:300.1.1.1 ~all ip4:203.0.113.9',
      'v=spf1 include:shop.example redirect=x.example',
    ],
    leadingHost({ ...HOST, outletIncludes: ['spf.relay.example'] }),
    lookupIn(ZONE),
  );
  expect(proposal.value).toBe('v=spf1 a:mail.host.example include:spf.relay.example mx ~all');
  expect(proposal.changes.map(({ term }) => term)).toEqual([
    'a:gone.example',
    'include:none.example',
    'ptr',
    'mx',
    'ip4:300.1.1.1',
    'ip4:203.0.113.9',
    'include:shop.example',
    'redirect=x.example',
  ]);
  const many = Array.from(
    { length: 12 },
    (_none, at) => [`n${at}.example`, 'TXT', `v=spf1 ip4:203.0.113.${at} -all`] as [string, 'TXT', string],
  );
  const long = await proposeSpf(
    'shop.example',
    [`v=spf1 ${many.map(([name]) => `include:${name}`).join(' ')} -all`],
    OURS,
    lookupIn([...ZONE, ...many]),
  );
  expect(long.lookups).toBe(10);
  expect(long.value).toMatch(
    /^v=spf1 ip4:192\.0\.2\.25 ip6:2001:db8:25::25 ip4:203\.0\.113\.0 ip4:203\.0\.113\.1 include:n2\.example .* -all$/,
  );
});

it('hosts of IPv4 only are written out where an IPv6 client would look for more than two of them in vain', async () => {
  const hosts = Array.from({ length: 9 }, (_one, at) => `h${at}.example`);
  const zone = lookupIn([...ZONE, ...hosts.map((host, at): (typeof ZONE)[number] => [host, 'A', `203.0.113.${at + 10}`])]);
  const published = `v=spf1 ${hosts.map((host) => `a:${host}`).join(' ')} -all`;
  const { value, isTooDear, changes } = await proposeSpf('shop.example', [published], OURS, zone);
  expect(isTooDear).toBe(false);
  expect(value).toMatch(/^v=spf1 a:mail\.host\.example ip4:203\.0\.113\.10 .* a:h7\.example a:h8\.example -all$/);
  expect(changes).toHaveLength(7);
  expect(changes[0]).toMatchObject({ code: 'one-family' });
  for (const clientAddress of ['203.0.113.18', '203.0.113.10', '2001:db8:9::9', '203.0.113.250'])
    expect(
      (
        await evaluateSpf(
          { clientAddress, sender: 'a@shop.example', domain: 'shop.example', helo: 'h.example' },
          lookupIn([
            ...ZONE,
            ...hosts.map((host, at): (typeof ZONE)[number] => [host, 'A', `203.0.113.${at + 10}`]),
            ['shop.example', 'TXT', value],
          ]),
        )
      ).result,
    ).toBe(clientAddress.startsWith('203.0.113.1') ? 'pass' : 'fail');
});

it.each(['a', 'mx', 'include'])(
  'a record of five hundred terms “%s” costs questions for each once, and nothing created of it',
  async (name) => {
    const published = `v=spf1 ${Array.from({ length: 498 }, (_one, at) => `${name}:h${at}.example`).join(' ')} -all`;
    const zone = lookupIn([
      ...ZONE,
      ...Array.from({ length: 498 }, (_one, at): typeof ZONE => [
        [`h${at}.example`, 'A', '203.0.113.9'],
        [`h${at}.example`, 'MX', `10 h${at}.example`],
        [`h${at}.example`, 'TXT', 'v=spf1 ip4:203.0.113.9 -all'],
      ]).flat(),
    ]);
    expect(await proposeSpf('shop.example', [published], OURS, zone)).toMatchObject({ isTooDear: true, changes: [] });
    expect(zone.asked.length).toBeLessThan(498 * 6);
  },
);
