import { generateKeyPairSync } from 'node:crypto';
import { describe, expect, it } from 'vitest';
import { checkDomain } from '../../src/core/checks/check-domain.ts';
import { type Finding, readiness, type Subject } from '../../src/core/checks/finding.ts';
import { composeSheet, type SheetRecord } from '../../src/core/records/sheet.ts';
import { lookupIn } from '../support/lookup.ts';

type Entry = Parameters<typeof lookupIn>[0][number];

const rsaKey = (): string =>
  generateKeyPairSync('rsa', { modulusLength: 2048 }).publicKey.export({ format: 'der', type: 'spki' }).toString('base64');
const DOMAIN = 'shop.example';
const HOST = { name: 'mail.host.example', addresses: ['192.0.2.25', '2001:db8:25::25'] };
const KEY = { selector: 'k1', publicKey: rsaKey() };
const SHEET = composeSheet({ domain: DOMAIN, host: HOST, keys: [KEY] });
const entry = (record: SheetRecord): Entry => [record.name, record.type, record.value];
const GOOD: Entry[] = SHEET.map(entry);
const only = (keep: (entry: Entry) => boolean): Entry[] => GOOD.filter(keep);
const without = (type: string, part = ''): Entry[] => only(([, kind, value]) => kind !== type || !value.includes(part));

const check = (entries: Entry[], silent: string[] = [], role: 'home' | 'away' = 'home') =>
  checkDomain({ domain: DOMAIN, role, host: HOST, key: KEY }, lookupIn(entries, silent));
const found = async (subject: Subject, entries: Entry[], silent: string[] = []): Promise<Finding> => {
  const one = (await check(entries, silent)).find((finding) => finding.subject === subject);
  if (!one) throw new Error(`no finding for ${subject}`);
  return one;
};

it('the sheet, published as it stands, is good in every point and worth 100', async () => {
  const findings = await check(GOOD);
  expect(findings.map((one) => one.verdict)).toEqual(['good', 'good', 'good', 'good', 'good']);
  expect(readiness(findings)).toBe(100);
});

const dkimName = 'k1._domainkey.shop.example';
const CASES: [Subject, string, string, Entry[]][] = [
  ['mx', 'mx-none', 'missing', without('MX')],
  ['mx', 'mx-null', 'wrong', [...without('MX'), [DOMAIN, 'MX', '0 ']]],
  ['mx', 'mx-elsewhere', 'wrong', [...without('MX'), [DOMAIN, 'MX', '10 mx.other.example']]],
  ['mx', 'mx-left-over', 'wrong', [...GOOD, [DOMAIN, 'MX', '5 mx.other.example']]],
  ['mx', 'mx-left-over', 'weak', [...GOOD, [DOMAIN, 'MX', '20 mx.other.example']]],
  ['mx', 'mx-host-unresolved', 'wrong', without('AAAA')],
  ['spf', 'spf-none', 'missing', without('TXT', 'spf1')],
  ['spf', 'spf-several', 'wrong', [...GOOD, [DOMAIN, 'TXT', 'v=spf1 mx ~all']]],
  ['spf', 'spf-syntax', 'wrong', [...without('TXT', 'spf1'), [DOMAIN, 'TXT', 'v=spf1 a:mail.host.example ip4:300.1.1.1 -all']]],
  ['spf', 'spf-host-left-out', 'wrong', [...without('TXT', 'spf1'), [DOMAIN, 'TXT', 'v=spf1 ip4:192.0.2.25 -all']]],
  ['spf', 'spf-permerror', 'wrong', [...without('TXT', 'spf1'), [DOMAIN, 'TXT', 'v=spf1 include:shop.example -all']]],
  ['spf', 'spf-anyone', 'wrong', [...without('TXT', 'spf1'), [DOMAIN, 'TXT', 'v=spf1 mx +all']]],
  ['spf', 'spf-open-end', 'weak', [...without('TXT', 'spf1'), [DOMAIN, 'TXT', 'v=spf1 mx ?all']]],
  ['dkim', 'dkim-none', 'missing', without('TXT', 'DKIM1')],
  ['dkim', 'dkim-doubled', 'wrong', [...without('TXT', 'DKIM1'), [`${dkimName}.${DOMAIN}`, 'TXT', 'v=DKIM1; p=x']]],
  ['dkim', 'dkim-several', 'wrong', [...GOOD, [dkimName, 'TXT', 'v=DKIM1; p=']]],
  ['dkim', 'dkim-revoked', 'wrong', [...without('TXT', 'DKIM1'), [dkimName, 'TXT', 'v=DKIM1; k=rsa; p=']]],
  ['dkim', 'dkim-cut-short', 'wrong', [...without('TXT', 'DKIM1'), [dkimName, 'TXT', `v=DKIM1; k=rsa; p=${KEY.publicKey.slice(0, 200)}`]]],
  ['dkim', 'dkim-unreadable', 'wrong', [...without('TXT', 'DKIM1'), [dkimName, 'TXT', 'v=DKIM1; k=rsa; p="abc"']]],
  ['dkim', 'dkim-other-key', 'wrong', [...without('TXT', 'DKIM1'), [dkimName, 'TXT', `v=DKIM1; k=rsa; p=${rsaKey()}`]]],
  ['dkim', 'dkim-testing', 'weak', [...without('TXT', 'DKIM1'), [dkimName, 'TXT', `v=DKIM1; t=y; k=rsa; p=${KEY.publicKey}`]]],
  ['dmarc', 'dmarc-none', 'missing', without('TXT', 'DMARC1')],
  ['dmarc', 'dmarc-doubled', 'wrong', [...without('TXT', 'DMARC1'), ['_dmarc.shop.example.shop.example', 'TXT', 'v=DMARC1; p=none']]],
  ['dmarc', 'dmarc-several', 'wrong', [...GOOD, ['_dmarc.shop.example', 'TXT', 'v=DMARC1; p=reject']]],
  ['dmarc', 'dmarc-syntax', 'wrong', [...without('TXT', 'DMARC1'), ['_dmarc.shop.example', 'TXT', 'v=DMARC1; p=rejct']]],
  ['reverse', 'reverse-none', 'missing', without('PTR')],
  ['reverse', 'reverse-none', 'wrong', only(([name, type]) => type !== 'PTR' || !name.endsWith('ip6.arpa'))],
  [
    'reverse',
    'reverse-unconfirmed',
    'wrong',
    [...without('PTR'), ['25.2.0.192.in-addr.arpa', 'PTR', 'dyn-25.isp.example'], ...only(([name]) => name.endsWith('ip6.arpa'))],
  ],
  ['reverse', 'reverse-unconfirmed', 'wrong', [...without('A', '192.0.2.25'), [HOST.name, 'A', '192.0.2.99']]],
];

describe('each fault is told apart, with what to do', () => {
  it.each(CASES)('%s: %s is %s', async (subject, code, verdict, entries) => {
    const one = await found(subject, entries);
    expect(one).toMatchObject({ code, verdict });
    for (const text of [one.headline, one.why, one.remedy]) expect(text).toMatch(/^\P{Cc}+[.!]$/u);
    expect(one.earned).toBeLessThan(one.worth);
  });

  it.each(CASES.filter(([subject]) => subject !== 'mx' && subject !== 'reverse'))(
    '%s: after %s, typing the proposed record makes it good',
    async (subject, _code, _verdict, entries) => {
      const one = await found(subject, entries);
      const [record] = one.publish;
      if (!record) throw new Error('nothing to type');
      const sameKind = record.value.slice(0, 6).toLowerCase();
      const typed: Entry[] = [
        ...entries.filter(
          ([name, type, value]) =>
            name !== record.name || type !== record.type || (subject === 'spf' && !value.toLowerCase().startsWith(sameKind)),
        ),
        entry(record),
      ];
      expect((await found(subject, typed)).verdict).toBe('good');
    },
  );
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
    expect((await found(subject, GOOD, [name])).verdict, `${subject} at ${name}`).toBe('unknown');
  const nothing = await check([], [DOMAIN, dkimName, '_dmarc.shop.example', '25.2.0.192.in-addr.arpa']);
  expect(readiness(nothing)).toBeNull();
});

it('a domain that is away is checked for staying away', async () => {
  const away = async (entries: Entry[]) => (await check(entries, [], 'away')).map((one) => [one.code, one.verdict]);
  expect(await away(GOOD)).toEqual([['mx-here-but-away', 'wrong']]);
  expect(await away([[DOMAIN, 'MX', '10 mx.other.example']])).toEqual([['mx-away-good', 'good']]);
  expect(await away([])).toEqual([['mx-none-away', 'missing']]);
});
