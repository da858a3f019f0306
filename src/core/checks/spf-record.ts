import type { Lookup } from '../records/answers.ts';
import { sameAddress } from '../records/reverse-name.ts';
import { type HostFacts, hostRecords } from '../records/sheet.ts';
import { spfCosts } from '../spf/costs.ts';
import { evaluateSpf } from '../spf/evaluate.ts';
import { isOpen, isWide, leadingHost, STRANGERS } from '../spf/merge.ts';
import { parseSpf, type SpfRecord } from '../spf/record.ts';
import { MOST_LOOKUPS, type SpfResult } from '../spf/run.ts';
import type { FindingDraft } from './finding.ts';

/** RFC 7208 §3.4 */
const LONGEST_RECORD = 512;
export const MOST_TERMS = 500;
/** Nobody has said yet who else sends. */
const SOFT_END = 'End the record in “~all”, as below; in “-all” once you are sure that nobody else sends for the domain.';

export interface Judged {
  /** A fault with records of its own is not mended in the domain's record. */
  faults: FindingDraft[];
  /** Why a look-up that decides got no answer. */
  silent: string | null;
  /** What a sender gets whom nobody has named. */
  others: SpfResult | null;
}

/** Everything that is wrong with the one record. */
export async function judgeRecord(domain: string, text: string, host: HostFacts | null, lookup: Lookup): Promise<Judged> {
  const faults: FindingDraft[] = [];
  const parsed = parseSpf(text);
  if (parsed.kind === 'invalid')
    return {
      faults: [
        {
          code: 'spf-syntax',
          verdict: 'wrong',
          headline: `The record is broken at character ${parsed.position + 1}, “${parsed.term}”: ${parsed.reason}.`,
          seen: [text, `${' '.repeat(parsed.position)}${'^'.repeat(Math.max(1, parsed.term.length))}`],
          remedy: 'Replace it with the record below.',
        },
      ],
      silent: null,
      others: null,
    };
  const costs = await spfCosts(text, domain, lookup);
  if (costs.total > MOST_LOOKUPS)
    faults.push({
      code: 'spf-too-many-lookups',
      verdict: 'wrong',
      headline: `The record asks for ${costs.total} look-ups; ${MOST_LOOKUPS} are allowed. ${costs.terms.map(({ term, lookups }) => `${term}: ${lookups}`).join(', ')}.`,
      remedy: 'Remove unused terms. The record below lists some networks directly to stay under the limit.',
    });
  const senders = await judgeSenders(domain, host, lookup);
  if (senders.silent !== null) return { faults, silent: senders.silent, others: null };
  for (const fault of senders.faults)
    if (fault.code !== 'spf-permerror' || costs.total <= MOST_LOOKUPS) faults.push({ ...fault, seen: [text] });
  const absent = (host?.outletIncludes ?? []).filter(
    (name) => !parsed.record.mechanisms.some((one) => one.name === 'include' && one.value?.toLowerCase() === name),
  );
  if (absent.length > 0)
    faults.push({
      code: 'spf-outlet-left-out',
      verdict: 'wrong',
      headline: `The record leaves out our smart host: include:${absent.join(', include:')} is missing.`,
      remedy: 'Replace the record with the one below.',
    });
  const all = parsed.record.mechanisms.find((one) => one.name === 'all');
  const broken = faults.find((one) => one.code === 'spf-void' || one.code === 'spf-permerror' || one.code === 'spf-too-many-lookups');
  const strangers = broken
    ? { faults: [], silent: null, others: 'permerror' as const }
    : await judgeStrangers(domain, parsed.record, lookup);
  if (strangers.silent !== null) return { faults, silent: strangers.silent, others: null };
  faults.push(...strangers.faults);
  if (all?.qualifier === '?')
    faults.push({
      code: 'spf-neutral-end',
      verdict: 'weak',
      headline: 'The record ends in “?all”, which has no effect on other senders.',
      remedy: SOFT_END,
    });
  if (parsed.record.redirect !== null && !all && strangers.others === 'neutral')
    faults.push({
      code: 'spf-neutral-end',
      verdict: 'weak',
      headline: `The record at ${parsed.record.redirect}, to which this one redirects, has no effect on other senders.`,
      remedy: `Have the record at ${parsed.record.redirect} end in “-all”.`,
      publish: [],
    });
  if (!all && parsed.record.redirect === null)
    faults.push({
      code: 'spf-no-end',
      verdict: 'weak',
      headline: 'The record has no “all” at its end.',
      remedy: SOFT_END,
    });
  if (parsed.record.mechanisms.some((one) => one.name === 'ptr'))
    faults.push({
      code: 'spf-ptr',
      verdict: 'weak',
      headline: 'The record uses “ptr”.',
      remedy: 'Replace the record with the one below; add the addresses of servers that still rely on “ptr”.',
    });
  if (text.length > LONGEST_RECORD)
    faults.push({
      code: 'spf-too-long',
      verdict: 'weak',
      headline: `The record has ${text.length} bytes; more than ${LONGEST_RECORD} may not arrive.`,
      remedy: 'Remove unused terms, or move networks into a separate include. The record below is as short as possible.',
    });
  return { faults, silent: null, others: strangers.others };
}

/** What each of our addresses gets, now and once the host's own name leads to all of them. */
async function judgeSenders(domain: string, host: HostFacts | null, lookup: Lookup): Promise<Omit<Judged, 'others'>> {
  if (host === null) return { faults: [], silent: null };
  const ours = leadingHost(host);
  const uncovered: string[] = [];
  const lagging: string[] = [];
  for (const clientAddress of host.addresses) {
    const question = { clientAddress, sender: `postmaster@${domain}`, domain, helo: host.name };
    const outcome = await evaluateSpf(question, lookup);
    if (outcome.result === 'temperror') return { faults: [], silent: outcome.reason };
    if (outcome.result === 'pass') continue;
    if (outcome.result === 'permerror') return { faults: [permanent(outcome)], silent: null };
    const later = await evaluateSpf(question, ours.resolved(lookup));
    if (later.result === 'pass') lagging.push(clientAddress);
    else uncovered.push(`${clientAddress} gets ${outcome.result}`);
  }
  const faults: FindingDraft[] = [];
  if (uncovered.length > 0)
    faults.push({
      code: 'spf-host-left-out',
      verdict: 'wrong',
      headline: `The record leaves this host out: ${uncovered.join(', ')}.`,
      remedy: 'Replace the record with the one below, which adds this host.',
    });
  if (lagging.length > 0)
    faults.push({
      code: 'spf-host-unresolved',
      verdict: 'wrong',
      headline: `The record names ${host.name}, which does not resolve to ${lagging.join(' and ')} yet.`,
      byProvider: `The domain’s record is correct. Publish the ${lagging.length === 1 ? 'address' : 'addresses'} below in the host’s zone.`,
      expected: lagging.map((address) => `${host.name} resolves to ${address}`),
      publish: hostRecords(host).filter(
        (record) => record.subject === 'host' && lagging.some((address) => sameAddress(record.value, address)),
      ),
    });
  return { faults, silent: null };
}

export const permanent = ({ isVoid, reason }: { isVoid: boolean; reason: string }): FindingDraft =>
  isVoid
    ? {
        code: 'spf-void',
        verdict: 'wrong',
        headline: `Too many names in the record do not exist: ${reason}.`,
        remedy: 'Replace the record with the one below, without the terms that do not exist.',
      }
    : {
        code: 'spf-permerror',
        verdict: 'wrong',
        headline: `Receivers cannot evaluate the whole record: ${reason}.`,
        remedy: 'Replace the record with the one below.',
      };

/** What whoever is not named in the record gets. Behind our own term a record may be broken, or open, and our mail passes all the same. */
async function judgeStrangers(domain: string, record: SpfRecord, lookup: Lookup): Promise<Judged> {
  const anyone = (headline: string): Judged => ({
    faults: [{ code: 'spf-anyone', verdict: 'wrong', headline, remedy: 'Replace the record with the one below.' }],
    silent: null,
    others: 'pass',
  });
  const wide = record.mechanisms.find(
    ({ name, qualifier, prefix4, prefix6 }) => name !== 'all' && qualifier === '+' && isWide(prefix4, prefix6),
  );
  if (wide) return anyone(`“${wide.text}” lets a large part of the Internet send as this domain.`);
  const all = record.mechanisms.find(({ name }) => name === 'all');
  const names = record.mechanisms.filter(({ name }) => name === 'a' || name === 'mx');
  const opens = record.mechanisms.some(({ name }) => name === 'include' || name === 'exists' || name === 'ptr');
  // Most records name a host or two: there is nothing to look up for what others get.
  if (all && all.qualifier !== '+' && names.length <= 2 && !opens)
    return { faults: [], silent: null, others: all.qualifier === '-' ? 'fail' : all.qualifier === '~' ? 'softfail' : 'neutral' };
  const results: SpfResult[] = [];
  for (const clientAddress of STRANGERS) {
    const outcome = await evaluateSpf({ clientAddress, sender: `postmaster@${domain}`, domain, helo: `host.${domain}` }, lookup);
    if (outcome.result === 'temperror') return { faults: [], silent: outcome.reason, others: null };
    if (outcome.result === 'permerror') return { faults: [permanent(outcome)], silent: null, others: 'permerror' };
    results.push(outcome.result);
  }
  if (all?.qualifier === '+') return anyone('The record ends in “+all”: anyone may send as this domain.');
  if (isOpen(results)) return anyone('The record lets anyone send as this domain: one of its terms includes an open record.');
  return { faults: [], silent: null, others: results[1] ?? null };
}
