import { getDomain } from 'tldts';
import { parseTags } from '../dkim/tags.ts';
import type { Lookup } from '../records/answers.ts';

export const POLICIES = ['none', 'quarantine', 'reject'] as const;
export type Policy = (typeof POLICIES)[number];

export interface DmarcRecord {
  policy: Policy;
  subdomainPolicy: Policy;
  strictDkim: boolean;
  strictSpf: boolean;
  /** Share of failing messages that the policy is meant for, 0 to 100. */
  percent: number;
  /** Addresses for aggregate reports, without `mailto:` and size limit. */
  reportsTo: string[];
}

/** `position` is the character in the record, from 0, at which the broken tag stands. */
export type DmarcParse = { kind: 'ok'; record: DmarcRecord } | { kind: 'invalid'; reason: string; position: number };

export const isDmarc = (text: string): boolean => /^v[ \t]*=[ \t]*DMARC1[ \t]*(;|$)/.test(text);

/** Reads a DMARC record (RFC 7489 §6.3, §6.4). */
export function parseDmarc(text: string): DmarcParse {
  const parsed = parseTags(text);
  if (parsed.kind === 'invalid') return parsed;
  const { tags, positions } = parsed;
  const invalid = (tag: string, reason: string): DmarcParse => ({ kind: 'invalid', reason, position: positions.get(tag) ?? text.length });
  const value = (tag: string): string | undefined => tags.get(tag)?.toLowerCase();
  const policy = value('p');
  if (!isPolicy(policy)) return invalid('p', policy === undefined ? 'it has no p= tag' : `p=${policy} is no policy`);
  const subdomain = value('sp') ?? policy;
  if (!isPolicy(subdomain)) return invalid('sp', `sp=${subdomain} is no policy`);
  for (const tag of ['adkim', 'aspf'])
    if (!['r', 's', undefined].includes(value(tag))) return invalid(tag, `${tag}=${value(tag)} is neither r nor s`);
  const percent = tags.get('pct') ?? '100';
  if (!/^\d{1,3}$/.test(percent) || Number(percent) > 100) return invalid('pct', `pct=${percent} is not 0 to 100`);
  const uris = uriList(tags.get('rua'));
  if (uris.some((uri) => !/^[a-z][a-z0-9+.-]*:\S+$/i.test(uri)))
    return invalid('rua', 'rua= needs addresses like mailto:reports@shop.example');
  return {
    kind: 'ok',
    record: {
      policy,
      subdomainPolicy: subdomain,
      strictDkim: value('adkim') === 's',
      strictSpf: value('aspf') === 's',
      percent: Number(percent),
      reportsTo: uris.filter((uri) => /^mailto:/i.test(uri)).map((uri) => uri.slice('mailto:'.length).replace(/![0-9]+[kmgt]?$/i, '')),
    },
  };
}

const uriList = (text = ''): string[] =>
  text
    .split(',')
    .map((uri) => uri.trim())
    .filter((uri) => uri !== '');

const isPolicy = (text: string | undefined): text is Policy => text === 'none' || text === 'quarantine' || text === 'reject';

/** The organisational domain by the public suffix list (RFC 7489 §3.2); a name that has none is its own. */
export const organisationalDomain = (domain: string): string =>
  getDomain(domain, { allowPrivateDomains: true, validateHostname: false }) ?? domain;

export type DmarcDiscovery =
  | { kind: 'found'; record: DmarcRecord; at: string; inherited: boolean }
  | { kind: 'none' }
  | { kind: 'invalid'; reason: string; at: string }
  | { kind: 'failed'; reason: string };

/** Finds the policy for a From domain: its own record, else its organisational domain's (RFC 7489 §6.6.3). */
export async function discoverDmarc(domain: string, lookup: Lookup): Promise<DmarcDiscovery> {
  for (const owner of new Set([domain, organisationalDomain(domain)])) {
    const at = `_dmarc.${owner}`;
    const answer = await lookup(at, 'TXT');
    if (answer.kind === 'failed') return { kind: 'failed', reason: answer.reason };
    const records = answer.kind === 'found' ? answer.values.filter(isDmarc) : [];
    if (records.length > 1) return { kind: 'invalid', reason: `there are ${records.length} records`, at };
    if (records[0] === undefined) continue;
    const parsed = parseDmarc(records[0]);
    const inherited = owner !== domain;
    if (parsed.kind === 'ok') return { kind: 'found', record: parsed.record, at, inherited };
    const watching = asWatching(records[0]);
    return watching ? { kind: 'found', record: watching, at, inherited } : { kind: 'invalid', reason: parsed.reason, at };
  }
  return { kind: 'none' };
}

/** RFC 7489 §6.6.3, last step: a record with a broken policy and a good address for reports counts as p=none. */
function asWatching(text: string): DmarcRecord | null {
  const mended = text
    .split(';')
    .filter((part) => !/^\s*(p|sp)\s*=/i.test(part))
    .concat('p=none')
    .join(';');
  const parsed = parseDmarc(mended);
  return parsed.kind === 'ok' && parsed.record.reportsTo.length > 0 ? parsed.record : null;
}
