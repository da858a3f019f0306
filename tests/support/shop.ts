import { generateKeyPairSync, sign } from 'node:crypto';
import { checkDomain } from '../../src/core/checks/check-domain.ts';
import type { CheckedKey } from '../../src/core/checks/dkim.ts';
import type { CheckFacts } from '../../src/core/checks/domain-checks.ts';
import type { Finding } from '../../src/core/checks/finding.ts';
import type { Views } from '../../src/core/checks/views.ts';
import type { Lookup } from '../../src/core/records/answers.ts';
import { composeSheet, type HostFacts, hostRecords, type SheetRecord } from '../../src/core/records/sheet.ts';
import type { Subject } from '../../src/core/vocabulary.ts';
import { type Entry, lookupIn } from './lookup.ts';

/** A shop that publishes everything as it should be, and ways to publish it wrongly. */

export function newKey(selector: string, state: CheckedKey['state'] = 'active', bits = 2048): CheckedKey {
  const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: bits });
  const input = Buffer.from('proof');
  return {
    selector,
    state,
    type: 'rsa',
    publicKey: publicKey.export({ format: 'der', type: 'spki' }).toString('base64'),
    proof: { input, signature: sign('sha256', input, privateKey) },
  };
}

export const DOMAIN = 'shop.example';
export const HOST: HostFacts = {
  name: 'mail.host.example',
  addresses: ['192.0.2.25', '2001:db8:25::25'],
  standby: ['reserve.host.example'],
};
export const KEY = newKey('k1');
export const OTHER = newKey('k2');
export const SHEET = composeSheet({ domain: DOMAIN, host: HOST, keys: [KEY], stage: 'quarantine' });
export const entry = (record: SheetRecord): Entry => [record.name, record.type as 'TXT', record.value];
export const GOOD: Entry[] = [
  ...SHEET.map(entry),
  [DOMAIN, 'SOA', '7'],
  ['reserve.host.example', 'A', '198.51.100.25'],
  ['mx.other.example', 'A', '203.0.113.7'],
];
export const without = (type: string, part = ''): Entry[] => GOOD.filter(([, kind, value]) => kind !== type || !value.includes(part));
export const spf = (record: string, ...more: Entry[]): Entry[] => [...without('TXT', 'spf1'), [DOMAIN, 'TXT', record], ...more];
export const dkimName = 'k1._domainkey.shop.example';
export const dkim = (...records: string[]): Entry[] => [...without('TXT', 'DKIM1'), ...records.map((one): Entry => [dkimName, 'TXT', one])];
export const dmarc = (...records: string[]): Entry[] => [
  ...without('TXT', 'DMARC1'),
  ...records.map((one): Entry => ['_dmarc.shop.example', 'TXT', one]),
];
export const mx = (...records: string[]): Entry[] => [...without('MX'), ...records.map((one): Entry => [DOMAIN, 'MX', one])];
export const ptr = (four: string[], six: string[] = ['mail.host.example']): Entry[] => [
  ...without('PTR'),
  ...four.map((name): Entry => ['25.2.0.192.in-addr.arpa', 'PTR', name]),
  ...six.map((name): Entry => [hostRecords(HOST).at(-1)?.name ?? '', 'PTR', name]),
];

export const FACTS: CheckFacts = { domain: DOMAIN, role: 'home', host: HOST, keys: [KEY], stage: 'none', next: null };
export const only = (lookup: Lookup): Views => ({ source: lookup, further: [], caches: [], sibling: 'nobody' });
export const check = (entries: Entry[], facts: Partial<CheckFacts> = {}, silent: string[] = []) =>
  checkDomain({ ...FACTS, ...facts }, only(lookupIn(entries, silent)));
export const about = async (
  subject: Subject,
  entries: Entry[],
  facts: Partial<CheckFacts> = {},
  silent: string[] = [],
): Promise<Finding[]> => (await check(entries, facts, silent)).filter((finding) => finding.subject === subject);

/** The zone after the records below were typed in: in place of all of the type for MX, of the like of it for TXT. */
export function typed(entries: Entry[], records: readonly SheetRecord[]): Entry[] {
  const replaced = ([name, type, value]: Entry): boolean =>
    records.some(
      (record) =>
        record.name === name &&
        record.type === type &&
        (record.type !== 'TXT' || record.subject !== 'spf' || value.toLowerCase().startsWith('v=spf1')),
    );
  return [...entries.filter((one) => !replaced(one)), ...records.map(entry)];
}
