import { createHash, generateKeyPairSync, sign } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { describe, expect, it } from 'vitest';
import { checkDomain } from '../../../src/core/checks/check-domain.ts';
import type { CheckedKey } from '../../../src/core/checks/dkim.ts';
import { checkDmarc } from '../../../src/core/checks/dmarc.ts';
import type { CheckFacts } from '../../../src/core/checks/domain-checks.ts';
import { isWorse, readiness } from '../../../src/core/checks/finding.ts';
import { checkHost } from '../../../src/core/checks/host.ts';
import { proposeSheet } from '../../../src/core/checks/proposed-sheet.ts';
import { checkReverse } from '../../../src/core/checks/reverse.ts';
import type { Lookup } from '../../../src/core/records/answers.ts';
import type { Policy, Subject } from '../../../src/core/vocabulary.ts';
import { CODES } from '../../../src/texts/en/findings.ts';
import { type Entry, lookupIn } from '../../support/lookup.ts';
import {
  about,
  check,
  DOMAIN,
  dkim,
  dkimName,
  dmarc,
  FACTS,
  GOOD,
  HOST,
  KEY,
  mx,
  newKey,
  OTHER,
  only,
  ptr,
  spf,
  typed,
  without,
} from '../../support/shop.ts';

it('the sheet, published as it stands, is good in every point and worth 100', async () => {
  const findings = await check(GOOD, { stage: 'quarantine' });
  expect(findings.map((one) => one.verdict)).toEqual(['good', 'good', 'good', 'good', 'good', 'good']);
  expect(readiness(findings)).toBe(100);
});

const includes = (count: number): Entry[] =>
  Array.from({ length: count }, (_none, at): Entry => [`s${at}.example`, 'TXT', `v=spf1 ip4:203.0.113.${at} -all`]);
const dated = newKey('k1', 'active', 1024);
const retired: CheckedKey = { ...OTHER, state: 'retired' };
const prepared: CheckedKey = { ...OTHER, state: 'prepared' };
const dueStage = { stage: 'quarantine', due: true, dueAt: 0, reason: 'SPF and DKIM have been good for 20 days' } as const;

/** Subject, code, verdict, what is published, further facts; and names where the remedy is more than to type the records below. */
const CASES: [Subject, string, string, Entry[], Partial<CheckFacts>?, string?][] = [
  ['mx', 'mx-none', 'missing', without('MX')],
  ['mx', 'mx-null', 'wrong', mx('0 ')],
  ['mx', 'mx-elsewhere', 'wrong', mx('10 mx.other.example')],
  ['mx', 'mx-standby-only', 'wrong', mx('10 reserve.host.example')],
  ['mx', 'mx-twice', 'weak', mx('10 mail.host.example', '30 mail.host.example', '20 reserve.host.example')],
  ['mx', 'mx-null-beside', 'wrong', mx('0 ', '10 mail.host.example', '20 reserve.host.example')],
  ['mx', 'mx-left-over', 'wrong', mx('5 mx.other.example', '10 mail.host.example', '20 reserve.host.example')],
  ['mx', 'mx-left-over', 'weak', mx('30 mx.other.example', '10 mail.host.example', '20 reserve.host.example')],
  ['mx', 'mx-order', 'wrong', mx('20 mail.host.example', '10 reserve.host.example')],
  ['mx', 'mx-standby-missing', 'weak', mx('10 mail.host.example')],
  ['mx', 'mx-address', 'wrong', mx('10 192.0.2.25')],
  ['mx', 'mx-doubled-target', 'wrong', mx('10 mail.host.example.shop.example')],
  ['mx', 'mx-target-unresolved', 'wrong', mx('10 gone.other.example', '10 mail.host.example', '20 reserve.host.example')],
  ['mx', 'mx-host-unresolved', 'wrong', without('AAAA'), {}, 'the host’s zone'],
  ['spf', 'spf-none', 'missing', without('TXT', 'spf1')],
  ['spf', 'spf-doubled', 'wrong', [...without('TXT', 'spf1'), ['shop.example.shop.example', 'TXT', 'v=spf1 mx -all']]],
  ['spf', 'spf-old-type', 'wrong', [...without('TXT', 'spf1'), [DOMAIN, 'SPF', 'v=spf1 mx -all']]],
  ['spf', 'spf-several', 'wrong', [...GOOD, [DOMAIN, 'TXT', 'v=spf1 mx ~all']]],
  ['spf', 'spf-syntax', 'wrong', spf('v=spf1 a:mail.host.example ip4:300.1.1.1 -all')],
  ['spf', 'spf-host-left-out', 'wrong', spf('v=spf1 ip4:192.0.2.25 -all')],
  [
    'spf',
    'spf-outlet-left-out',
    'wrong',
    [...GOOD, ['spf.relay.example', 'TXT', 'v=spf1 ip4:203.0.113.50 -all']],
    { host: { ...HOST, outletIncludes: ['spf.relay.example'] } },
  ],
  [
    'spf',
    'spf-too-many-lookups',
    'wrong',
    spf(
      `v=spf1 a:mail.host.example ${includes(11)
        .map(([name]) => `include:${name}`)
        .join(' ')} -all`,
      ...includes(11),
    ),
  ],
  ['spf', 'spf-void', 'wrong', spf('v=spf1 a:x1.example a:x2.example a:x3.example a:mail.host.example -all')],
  ['spf', 'spf-permerror', 'wrong', spf('v=spf1 include:gone.example a:mail.host.example -all')],
  ['spf', 'spf-anyone', 'wrong', spf('v=spf1 mx +all')],
  ['spf', 'spf-neutral-end', 'weak', spf('v=spf1 mx ?all')],
  ['spf', 'spf-no-end', 'weak', spf('v=spf1 mx')],
  ['spf', 'spf-ptr', 'weak', spf('v=spf1 mx ptr -all')],
  ['spf', 'spf-too-long', 'weak', spf(`v=spf1 mx ${Array.from({ length: 30 }, () => 'ip4:203.0.113.130/32').join(' ')} -all`)],
  ['dkim', 'dkim-none', 'missing', without('TXT', 'DKIM1')],
  ['dkim', 'dkim-doubled', 'wrong', [...dkim(), [`${dkimName}.${DOMAIN}`, 'TXT', 'v=DKIM1; p=x']]],
  ['dkim', 'dkim-other-selector', 'wrong', [...dkim(), ['default._domainkey.shop.example', 'TXT', `v=DKIM1; p=${KEY.publicKey}`]]],
  [
    'dkim',
    'dkim-other-selector',
    'wrong',
    [...dkim(), ['k2._domainkey.shop.example', 'TXT', `v=DKIM1; p=${KEY.publicKey}`]],
    { keys: [KEY, retired] },
    'the misplaced one',
  ],
  ['dkim', 'dkim-several', 'wrong', [...GOOD, [dkimName, 'TXT', 'v=DKIM1; p=']]],
  ['dkim', 'dkim-revoked', 'wrong', dkim('v=DKIM1; k=rsa; p=')],
  ['dkim', 'dkim-cut-short', 'wrong', dkim(`v=DKIM1; k=rsa; p=${KEY.publicKey.slice(0, 200)}`)],
  ['dkim', 'dkim-quotes', 'wrong', dkim(`"v=DKIM1; k=rsa; p=${KEY.publicKey}"`)],
  ['dkim', 'dkim-broken', 'wrong', dkim(`v=DKIM1; k=rsa; p=${KEY.publicKey.replace(/[A-Z]/g, '*')}`)],
  ['dkim', 'dkim-other-key', 'wrong', dkim(`v=DKIM1; k=rsa; p=${OTHER.publicKey}`)],
  ['dkim', 'dkim-testing', 'weak', dkim(`v=DKIM1; t=y; k=rsa; p=${KEY.publicKey}`)],
  ['dkim', 'dkim-short-key', 'weak', dkim(`v=DKIM1; k=rsa; p=${dated.publicKey}`), { keys: [dated] }, 'a new key'],
  ['dkim', 'dkim-does-not-verify', 'wrong', GOOD, { keys: [{ ...KEY, proof: OTHER.proof }] }, 'a new key'],
  ['dkim', 'dkim-prepared-missing', 'weak', GOOD, { keys: [KEY, prepared] }],
  [
    'dkim',
    'dkim-prepared-wrong',
    'weak',
    [...GOOD, ['k2._domainkey.shop.example', 'TXT', `v=DKIM1; p=${KEY.publicKey}`]],
    { keys: [KEY, prepared] },
  ],
  ['dkim', 'dkim-retiring-gone', 'weak', GOOD, { keys: [KEY, { ...OTHER, state: 'retiring' }] }],
  [
    'dkim',
    'dkim-retired-published',
    'weak',
    [...GOOD, ['k2._domainkey.shop.example', 'TXT', `v=DKIM1; p=${OTHER.publicKey}`]],
    { keys: [KEY, retired] },
    'remove it',
  ],
  ['dmarc', 'dmarc-none', 'missing', without('TXT', 'DMARC1')],
  ['dmarc', 'dmarc-doubled', 'wrong', [...dmarc(), ['_dmarc.shop.example.shop.example', 'TXT', 'v=DMARC1; p=none']]],
  ['dmarc', 'dmarc-at-root', 'wrong', [...dmarc(), [DOMAIN, 'TXT', 'v=DMARC1; p=none']]],
  ['dmarc', 'dmarc-several', 'wrong', [...GOOD, ['_dmarc.shop.example', 'TXT', 'v=DMARC1; p=reject']]],
  ['dmarc', 'dmarc-syntax', 'wrong', dmarc('v=DMARC1; p=rejct')],
  ['dmarc', 'dmarc-not-read', 'wrong', dmarc('DMARC1; p=reject')],
  ['dmarc', 'dmarc-behind', 'weak', dmarc('v=DMARC1; p=none'), { stage: 'quarantine' }],
  ['dmarc', 'dmarc-watching-long', 'weak', dmarc('v=DMARC1; p=none'), { next: dueStage }],
  ['dmarc', 'dmarc-subdomains-weaker', 'weak', dmarc('v=DMARC1; p=reject; sp=none')],
  ['dmarc', 'dmarc-reports-not-agreed', 'weak', dmarc('v=DMARC1; p=reject; rua=mailto:a@shop.example,mailto:b@reports.example')],
  ['reverse', 'reverse-none', 'missing', ptr([], [])],
  ['reverse', 'reverse-none', 'wrong', ptr(['mail.host.example'], [])],
  ['reverse', 'reverse-several', 'weak', [...ptr(['mail.host.example', 'b.host.example']), ['b.host.example', 'A', '192.0.2.25']]],
  ['reverse', 'reverse-generic', 'wrong', [...ptr(['192-0-2-25.isp.example']), ['192-0-2-25.isp.example', 'A', '192.0.2.25']]],
  [
    'reverse',
    'reverse-generic',
    'wrong',
    [
      ...ptr(['dsl-7.isp.example'], ['dsl-7.isp.example']),
      ['dsl-7.isp.example', 'A', '192.0.2.25'],
      ['dsl-7.isp.example', 'AAAA', '2001:db8:25::25'],
    ],
  ],
  [
    'reverse',
    'reverse-other-name',
    'wrong',
    [...ptr(['b.host.example'], ['b.host.example']), ['b.host.example', 'A', '192.0.2.25'], ['b.host.example', 'AAAA', '2001:db8:25::25']],
  ],
  ['reverse', 'reverse-unconfirmed', 'wrong', [...without('A', '192.0.2.25'), [HOST.name, 'A', '192.0.2.99']], {}, 'the host’s zone'],
];

describe('each fault is told apart, with what to do', () => {
  it.each(CASES)('%s: %s is %s', async (subject, code, verdict, entries, facts) => {
    const [first, ...others] = await about(subject, entries, facts);
    const one = [first, ...others].find((finding) => finding?.code === code);
    expect(first?.code, 'the worst comes first').toBe(code);
    expect(one).toMatchObject({ code, verdict });
    for (const text of [one?.headline, one?.why, one?.remedy]) expect(text).toMatch(/^\P{Cc}+[.!)]$/u);
    // What only wants tidying up costs nothing.
    if (/-(prepared|retired)-/.test(code)) expect(one?.earned).toBe(one?.worth);
    else expect(one?.earned).toBeLessThan(one?.worth ?? 0);
    expect(others.every((other) => other.worth === 0)).toBe(true);
    expect(one?.evidence.length).toBeGreaterThan(0);
  });

  it.each(CASES.filter(([, , , , , elsewhere]) => elsewhere === undefined))(
    '%s: after %s, typing the proposed records makes it good',
    async (subject, code, _verdict, entries, facts) => {
      const [one] = await about(subject, entries, facts);
      expect(one?.publish.length).toBeGreaterThan(0);
      const later = await about(subject, typed(entries, one?.publish ?? []), facts);
      expect(later.map((finding) => finding.code)).not.toContain(code);
      expect(later.map((finding) => finding.verdict)).toEqual(['good']);
    },
  );

  it('an alias as MX target is named with where it leads', async () => {
    const plain = lookupIn(mx('10 alias.shop.example'));
    const lookup: Lookup = async (name, type) =>
      name === 'alias.shop.example' && type === 'A'
        ? ({ kind: 'found', values: ['192.0.2.25'], ttl: 60, alias: 'mail.host.example' } as never)
        : plain(name, type);
    const [one] = await checkDomain(FACTS, only(lookup));
    expect(one).toMatchObject({ code: 'mx-alias', verdict: 'wrong' });
    expect(one?.headline).toContain('an alias (CNAME) of mail.host.example');
  });

  it('the position of what is broken is marked', async () => {
    expect((await about('spf', spf('v=spf1 mx ipv4:1.2.3.4 -all')))[0]?.seen).toEqual([
      'v=spf1 mx ipv4:1.2.3.4 -all',
      '          ^^^^^^^^^^^^',
    ]);
    expect((await about('dmarc', dmarc('v=DMARC1; p=rejct')))[0]?.seen).toEqual(['v=DMARC1; p=rejct', '          ^']);
  });

  it('what is signed and sent in another name is not aligned', async () => {
    const aligned = (record: string, signingDomain: string) =>
      checkDmarc(
        { domain: DOMAIN, stage: 'none', next: null, signingDomain, envelopeDomain: DOMAIN, sibling: 'nobody' },
        lookupIn(dmarc(record)),
      );
    expect(await aligned('v=DMARC1; p=reject; adkim=s', 'mail.shop.example')).toMatchObject([
      { code: 'dmarc-not-aligned', verdict: 'weak' },
    ]);
    expect(await aligned('v=DMARC1; p=reject', 'mail.shop.example')).toMatchObject([{ code: 'dmarc-good' }]);
    expect(await aligned('v=DMARC1; p=reject', 'other.example')).toMatchObject([{ code: 'dmarc-not-aligned' }]);
  });

  it('a proposal never weakens what is in force: a policy with an error keeps its strength, an inherited one is not replaced', async () => {
    const of = (record: string, stage: Policy = 'none') =>
      checkDmarc(
        { domain: DOMAIN, stage, next: null, signingDomain: DOMAIN, envelopeDomain: DOMAIN, sibling: 'nobody' },
        lookupIn(dmarc(record)),
      );
    const proposed = async (record: string, stage?: Policy) => {
      const [finding] = await of(record, stage);
      return [finding?.code, finding?.publish.map((one) => one.value).join()];
    };
    expect(await proposed('v=DMARC1; p=reject; rua=nonsense')).toEqual(['dmarc-syntax', 'v=DMARC1; p=reject']);
    expect(await proposed('v=DMARC1; p=reject junk; pct=20; fo=1')).toEqual(['dmarc-syntax', 'v=DMARC1; p=reject; pct=20; fo=1']);
    expect(await proposed('v=DMARC1; p=none; pct=x', 'quarantine')).toEqual(['dmarc-syntax', 'v=DMARC1; p=quarantine']);
    const below = (record: string | null, stage: Policy = 'none', silent: string[] = []) =>
      checkDmarc(
        { domain: `news.${DOMAIN}`, stage, next: null, signingDomain: DOMAIN, envelopeDomain: DOMAIN, sibling: 'nobody' },
        lookupIn(record === null ? [] : dmarc(record), silent),
      );
    expect(await below('v=DMARC1; p=reject')).toMatchObject([
      { code: 'dmarc-inherited', verdict: 'good', publish: [], headline: expect.stringContaining('reject forged mail') },
    ]);
    expect(await below('v=DMARC1; p=reject; sp=none')).toMatchObject([
      { code: 'dmarc-inherited', headline: expect.stringContaining('only monitors') },
    ]);
    expect(await below('v=DMARC1; p=none', 'reject')).toMatchObject([
      { code: 'dmarc-behind', publish: [{ value: expect.stringContaining('p=reject') }] },
    ]);
    expect(await below(null)).toMatchObject([{ code: 'dmarc-none' }]);
    expect(await below(null, 'none', [`_dmarc.${DOMAIN}`])).toMatchObject([{ verdict: 'unknown' }]);
  });

  it('several faults of a subject are all told, the worst first', async () => {
    const found = await about('mx', mx('5 192.0.2.25', '10 mail.host.example', '30 mx.other.example'));
    expect(found.map((one) => one.code)).toEqual(['mx-address', 'mx-left-over', 'mx-standby-missing']);
  });
});

describe('the host', () => {
  const hostCodes = async (entries: Entry[], facts: Partial<Parameters<typeof checkHost>[0]> = {}) =>
    (await checkHost({ host: HOST, greeting: null, blockLists: [], resolvers: [], ...facts }, lookupIn(entries))).map((one) => [
      one.code,
      one.verdict,
    ]);
  const LIST: Entry[] = [...GOOD, ['2.0.0.127.list.example', 'A', '127.0.0.2']];
  const lists = { blockLists: ['list.example'] };
  it.each([
    ['host-good', 'good', LIST, { ...lists, greeting: HOST.name }],
    ['host-not-qualified', 'wrong', [...GOOD, ['mail', 'A', '192.0.2.25']], { host: { name: 'mail', addresses: ['192.0.2.25'] } }],
    [
      'host-bare-domain',
      'weak',
      [...GOOD, ['host.example', 'A', '192.0.2.25']],
      { host: { name: 'host.example', addresses: ['192.0.2.25'] } },
    ],
    ['host-no-forward', 'wrong', without('AAAA'), {}],
    ['host-greeting-differs', 'wrong', GOOD, { greeting: 'box.isp.example' }],
    [
      'host-listed',
      'wrong',
      [...LIST, ['25.2.0.192.list.example', 'A', '127.0.0.4'], ['25.2.0.192.list.example', 'TXT', 'spam on Monday']],
      lists,
    ],
    [
      'host-listed',
      'wrong',
      [...LIST, ['5.2.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.5.2.0.0.8.b.d.0.1.0.0.2.list.example', 'A', '127.0.0.4']],
      lists,
    ],
    [
      'host-resolver-silent',
      'wrong',
      GOOD,
      {
        resolvers: [
          { address: '192.0.2.53', fault: 'no answer in time' },
          { address: '192.0.2.54', fault: null },
        ],
      },
    ],
    ['host-list-dead', 'unknown', GOOD, lists],
    ['host-list-dead', 'unknown', [...LIST, ['1.0.0.127.list.example', 'A', '127.0.0.2']], lists],
  ] as [string, string, Entry[], object][])('%s is %s', async (code, verdict, entries, facts) => {
    expect(await hostCodes(entries, facts)).toEqual([[code, verdict]]);
  });
  it('a further way out without a name is told', async () => {
    const routes = (await checkReverse(HOST, lookupIn(GOOD), ['2001:db8:25::25', '2001:db8:25::99'])).map((one) => one.code);
    expect(routes).toEqual(['reverse-ipv6-route']);
  });
  it('two families with two names are apart', async () => {
    const found = await about('reverse', [
      ...ptr(['mail.host.example'], ['six.host.example']),
      ['six.host.example', 'AAAA', '2001:db8:25::25'],
    ]);
    expect(found.map((one) => one.code)).toEqual(['reverse-other-name', 'reverse-apart']);
  });
});

it('silence is unknown, never missing', async () => {
  for (const [subject, name] of [
    ['mx', DOMAIN],
    ['spf', DOMAIN],
    ['dkim', dkimName],
    ['dmarc', '_dmarc.shop.example'],
    ['reverse', '25.2.0.192.in-addr.arpa'],
    ['mx', HOST.name],
    ['spf', HOST.name],
    ['reverse', HOST.name],
  ] as [Subject, string][])
    expect((await about(subject, GOOD, {}, [name]))[0]?.verdict, `${subject} at ${name}`).toBe('unknown');
  expect((await checkHost({ host: HOST, greeting: null, blockLists: [], resolvers: [] }, lookupIn(GOOD, [HOST.name])))[0]?.code).toBe(
    'host-unanswered',
  );
  const nothing = await check([], {}, [DOMAIN, dkimName, '_dmarc.shop.example', '25.2.0.192.in-addr.arpa']);
  expect(readiness(nothing)).toBeNull();
});

it('for a domain whose mailboxes another server has, the MX records say what the role says', async () => {
  const of = async (role: 'pass-on' | 'standby', ...mx: string[]) =>
    (
      await check(
        mx.map((value): Entry => [DOMAIN, 'MX', value]),
        { role, keys: [] },
      )
    )
      .filter((one) => one.subject === 'mx')
      .map((one) => [one.code, one.verdict]);
  const ours = HOST.name;
  expect(await of('pass-on', `10 ${ours}`)).toEqual([['mx-pass-on-good', 'good']]);
  expect(await of('pass-on', '10 mx.other.example')).toEqual([['mx-pass-on-absent', 'wrong']]);
  expect(await of('pass-on')).toEqual([['mx-pass-on-absent', 'missing']]);
  expect(await of('pass-on', '5 mx.other.example', `10 ${ours}`)).toEqual([['mx-around', 'weak']]);
  expect(await of('standby', '10 mx.other.example', `20 ${ours}`)).toEqual([['mx-standby-good', 'good']]);
  expect(await of('standby', '10 mx.other.example')).toEqual([['mx-standby-absent', 'wrong']]);
  expect(await of('standby', `10 ${ours}`)).toEqual([['mx-standby-first', 'wrong']]);
  expect(await of('standby', `10 ${ours}`, '10 mx.other.example')).toEqual([['mx-standby-first', 'wrong']]);
  expect((await check([], { role: 'standby' }, [DOMAIN]))[0]?.verdict).toBe('unknown');
});

it('a domain that is away is checked for staying away', async () => {
  const away = async (entries: Entry[]) => (await about('mx', entries, { role: 'away' })).map((one) => [one.code, one.verdict]);
  expect(await away(GOOD)).toEqual([['mx-here-but-away', 'wrong']]);
  expect(await away([[DOMAIN, 'MX', '10 mx.other.example']])).toEqual([['mx-away-good', 'good']]);
  expect(await away([])).toEqual([['mx-none-away', 'missing']]);
});

it('an Ed25519 key beside the RSA one is checked as well', async () => {
  const { privateKey, publicKey } = generateKeyPairSync('ed25519');
  const input = Buffer.from('proof');
  const edwards: CheckedKey = {
    selector: 'e1',
    type: 'ed25519',
    state: 'active',
    publicKey: publicKey.export({ format: 'der', type: 'spki' }).subarray(-32).toString('base64'),
    proof: { input, signature: sign(null, createHash('sha256').update(input).digest(), privateKey) },
  };
  const keys = [KEY, edwards];
  const [missing] = await about('dkim', GOOD, { keys });
  expect(missing).toMatchObject({ code: 'dkim-none', name: 'e1._domainkey.shop.example' });
  expect((await about('dkim', typed(GOOD, missing?.publish ?? []), { keys })).map((one) => one.code)).toEqual(['dkim-good']);
});

it('the proposed sheet keeps what the customer publishes in the one SPF record and in the policy', async () => {
  const entries = [
    ...spf('v=spf1 include:s0.example ~all', ...includes(1)).filter(([name]) => name !== '_dmarc.shop.example'),
    ...dmarc('v=DMARC1; p=reject; rua=mailto:dm@shop.example').slice(-1),
  ];
  const { records, notes } = await proposeSheet({ domain: DOMAIN, host: HOST, keys: [KEY], stage: 'none' }, lookupIn(entries), 'nobody');
  expect(records.filter((one) => one.subject === 'spf').map((one) => one.value)).toEqual([
    'v=spf1 a:mail.host.example include:s0.example ~all',
  ]);
  expect(records.find((one) => one.subject === 'dmarc')?.value).toBe('v=DMARC1; p=reject; rua=mailto:dm@shop.example');
  expect(notes[0]).toContain('costs 2 of 10 look-ups');
});

it('worse is worse, and not knowing is no news', () => {
  expect(isWorse('wrong', 'good')).toBe(true);
  expect(isWorse('weak', 'good')).toBe(true);
  expect(isWorse('good', 'wrong')).toBe(false);
  expect(isWorse('unknown', 'good')).toBe(false);
  expect(isWorse('wrong', null)).toBe(true);
});

it('each code has its line in docs/findings.md, and each line its code', () => {
  const text = readFileSync(new URL('../../../docs/findings.md', import.meta.url), 'utf8');
  const written = [...text.matchAll(/^\| `([a-z0-9-]+)` \|/gm)].map((found) => found[1]);
  expect(written.sort()).toEqual(Object.keys(CODES).sort());
});

it('the sheet of a name that has its policy from above brings none of its own, and says why', async () => {
  const domain = `news.${DOMAIN}`;
  const { records, notes } = await proposeSheet(
    { domain, host: HOST, keys: [KEY], stage: 'none' },
    lookupIn(dmarc('v=DMARC1; p=reject')),
    'nobody',
  );
  expect(records.map((one) => one.subject)).not.toContain('dmarc');
  expect(notes.join(' ')).toContain(`The policy of ${DOMAIN} applies here too: reject forged mail. Its own record would replace it.`);
  const stricter = await proposeSheet({ domain, host: HOST, keys: [KEY], stage: 'reject' }, lookupIn(dmarc('v=DMARC1; p=none')), 'nobody');
  expect(stricter.records.find((one) => one.subject === 'dmarc')?.value).toContain('p=reject');
});
