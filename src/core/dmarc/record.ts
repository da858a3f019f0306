import { getDomain } from 'tldts';
import { domainName } from '../address/domain.ts';
import { type Lookup, lookUp } from '../records/answers.ts';
import type { Policy } from '../vocabulary.ts';

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

/** `position` is the character in the record, from 0, at which the broken part stands. */
export interface DmarcFault {
  reason: string;
  position: number;
}
/**
 * `faults` are parts that receivers pass over, taking their defaults (RFC 7489 §6.3); `clean` is the record without them. Only what is wrong
 * with the policies themselves makes a record invalid.
 */
export type DmarcParse = { kind: 'ok'; record: DmarcRecord; faults: DmarcFault[]; clean: string } | ({ kind: 'invalid' } & DmarcFault);

export const isDmarc = (text: string): boolean => /^v[ \t]*=[ \t]*DMARC1[ \t]*(;|$)/.test(text);

interface Part {
  name: string;
  value: string;
  position: number;
  text: string;
}

/** Reads a DMARC record (RFC 7489 §6.3, §6.4). */
export function parseDmarc(text: string): DmarcParse {
  const faults: DmarcFault[] = [];
  const parts = new Map<string, Part>();
  let next = 0;
  for (const piece of text.split(';')) {
    const position = next + piece.length - piece.trimStart().length;
    next += piece.length + 1;
    const part = piece.trim();
    if (part === '') continue;
    const found = /^([A-Za-z][A-Za-z0-9_]*)[ \t]*=(.*)$/s.exec(part);
    const name = found?.[1]?.toLowerCase();
    if (name === undefined) faults.push({ reason: `"${part.slice(0, 40)}" is not a tag`, position });
    else if (parts.has(name)) faults.push({ reason: `the tag ${name}= is given twice`, position });
    else parts.set(name, { name, value: (found?.[2] ?? '').trim(), position, text: part });
  }
  const value = (tag: string): string | undefined => parts.get(tag)?.value.toLowerCase();
  const passOver = (tag: string, reason: string): void => {
    faults.push({ reason, position: parts.get(tag)?.position ?? text.length });
    parts.delete(tag);
  };
  const policies: Policy[] = [];
  for (const tag of ['p', 'sp']) {
    const written = value(tag);
    if (written === undefined && tag === 'sp') continue;
    const [word = '', ...junk] = (written ?? '').split(/[ \t]+/);
    if (!isPolicy(word))
      return {
        kind: 'invalid',
        reason: written === undefined ? 'it has no p= tag' : `${tag}=${written.slice(0, 40)} is not a policy`,
        position: parts.get(tag)?.position ?? text.length,
      };
    policies.push(word);
    if (junk.length === 0) continue;
    const position = parts.get(tag)?.position ?? 0;
    faults.push({ reason: `there is text after ${tag}=${word}`, position });
    parts.set(tag, { name: tag, value: word, position, text: `${tag}=${word}` });
  }
  for (const tag of ['adkim', 'aspf'])
    if (!['r', 's', undefined].includes(value(tag))) passOver(tag, `${tag}=${value(tag)?.slice(0, 40)} is neither r nor s`);
  const percent = value('pct');
  if (percent !== undefined && (!/^\d{1,3}$/.test(percent) || Number(percent) > 100))
    passOver('pct', `pct=${percent.slice(0, 40)} is not 0 to 100`);
  const uris = uriList(parts.get('rua')?.value);
  const good = uris.filter((uri) => /^[a-z][a-z0-9+.-]*:\S+$/i.test(uri));
  if (good.length < uris.length) passOver('rua', 'rua= needs addresses like mailto:reports@shop.example');
  if (good.length < uris.length && good.length > 0)
    parts.set('rua', { name: 'rua', value: good.join(','), position: 0, text: `rua=${good.join(',')}` });
  const [policy = 'none', subdomainPolicy = policy] = policies;
  return {
    kind: 'ok',
    record: {
      policy,
      subdomainPolicy,
      strictDkim: value('adkim') === 's',
      strictSpf: value('aspf') === 's',
      percent: Number(value('pct') ?? 100),
      reportsTo: good.filter((uri) => /^mailto:/i.test(uri)).map((uri) => uri.slice('mailto:'.length).replace(/![0-9]+[kmgt]?$/i, '')),
    },
    faults: faults.sort((one, other) => one.position - other.position),
    clean: [...parts.values()].map((part) => part.text).join('; '),
  };
}

const uriList = (text = ''): string[] =>
  text
    .split(',')
    .map((uri) => uri.trim())
    .filter((uri) => uri !== '');

const isPolicy = (text: string | undefined): text is Policy => text === 'none' || text === 'quarantine' || text === 'reject';

/** The organisational domain by the public suffix list (RFC 7489 §3.2); a name that has none is its own, and so is what is no name. */
export function organisationalDomain(domain: string): string {
  // The package reads its argument as a URL: of “bank.example/.evil.example” it would see the first part.
  const name = domainName(domain);
  return name === null ? domain : (getDomain(name, { allowPrivateDomains: true, validateHostname: false, extractHostname: false }) ?? name);
}

export type DmarcDiscovery =
  | { kind: 'found'; record: DmarcRecord; at: string; inherited: boolean }
  | { kind: 'none' }
  | { kind: 'invalid'; reason: string; at: string }
  | { kind: 'failed'; reason: string };

/** Finds the policy for a From domain: its own record, else its organisational domain's (RFC 7489 §6.6.3). */
export async function discoverDmarc(domain: string, lookup: Lookup): Promise<DmarcDiscovery> {
  for (const owner of new Set([domain, organisationalDomain(domain)])) {
    const at = `_dmarc.${owner}`;
    const answer = await lookUp(lookup, at, 'TXT');
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

/** RFC 7489 §6.6.3, step 6: a record with a broken policy and a good address for reports counts as p=none. */
function asWatching(text: string): DmarcRecord | null {
  const mended = text
    .split(';')
    .filter((part) => !/^\s*(p|sp)\s*=/i.test(part))
    .concat('p=none')
    .join(';');
  const parsed = parseDmarc(mended);
  return parsed.kind === 'ok' && parsed.record.reportsTo.length > 0 ? parsed.record : null;
}
