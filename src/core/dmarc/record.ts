import { getDomain } from 'tldts';
import { parseTags } from '../dkim/tags.ts';
import type { Lookup } from '../records/answers.ts';

export type Policy = 'none' | 'quarantine' | 'reject';

export interface DmarcRecord {
  policy: Policy;
  subdomainPolicy: Policy;
  strictDkim: boolean;
  strictSpf: boolean;
  percent: number;
  reportsTo: string[];
}

export type DmarcParse = { kind: 'ok'; record: DmarcRecord } | { kind: 'invalid'; reason: string };

export const isDmarc = (text: string): boolean => /^v[ \t]*=[ \t]*DMARC1[ \t]*(;|$)/.test(text);

/** Reads a DMARC record (RFC 7489 §6.3). */
export function parseDmarc(text: string): DmarcParse {
  const parsed = parseTags(text);
  if (parsed.kind === 'invalid') return parsed;
  const { tags } = parsed;
  const policy = tags.get('p')?.toLowerCase();
  if (!isPolicy(policy)) return { kind: 'invalid', reason: policy === undefined ? 'it has no p= tag' : `p=${policy} is no policy` };
  const subdomain = tags.get('sp')?.toLowerCase() ?? policy;
  if (!isPolicy(subdomain)) return { kind: 'invalid', reason: `sp=${subdomain} is no policy` };
  const percent = tags.get('pct') ?? '100';
  if (!/^\d{1,3}$/.test(percent) || Number(percent) > 100) return { kind: 'invalid', reason: `pct=${percent} is not 0 to 100` };
  return {
    kind: 'ok',
    record: {
      policy,
      subdomainPolicy: subdomain,
      strictDkim: tags.get('adkim') === 's',
      strictSpf: tags.get('aspf') === 's',
      percent: Number(percent),
      reportsTo: (tags.get('rua') ?? '')
        .split(',')
        .map((uri) => uri.trim())
        .filter((uri) => uri !== ''),
    },
  };
}

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
    if (parsed.kind === 'invalid') return { ...parsed, at };
    return { kind: 'found', record: parsed.record, at, inherited: owner !== domain };
  }
  return { kind: 'none' };
}
