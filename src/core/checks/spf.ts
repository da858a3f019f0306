import { answerText, type Lookup, lookUp } from '../records/answers.ts';
import { sameAddress } from '../records/reverse-name.ts';
import { domainRecord, type HostFacts, hostRecords, type SheetRecord, spfText } from '../records/sheet.ts';
import { spfCosts } from '../spf/costs.ts';
import { evaluateSpf, MOST_LOOKUPS, type SpfResult } from '../spf/evaluate.ts';
import { isOpen, isWide, leadingHost, proposeSpf, STRANGERS } from '../spf/merge.ts';
import { isSpf, parseSpf, type SpfRecord } from '../spf/record.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settle, unanswered } from './finding.ts';
import { isWildcard } from './wildcard.ts';

/** RFC 7208 §3.4 */
const LONGEST_RECORD = 512;
export const MOST_TERMS = 500;
/** Nobody has said yet who else sends. */
const SOFT_END = 'End the record in “~all”, as below; in “-all” once it is sure that nobody else sends for the domain.';

export interface SpfFacts {
  domain: string;
  /** This host, which the record must let send; null where the domain's mail is sent elsewhere. */
  host: HostFacts | null;
  /** A label that nobody has. */
  sibling: string;
}

/** Does the published SPF record let each address of this host send for the domain, keep strangers out, and hold to its end? */
export async function checkSpf({ domain, host, sibling }: SpfFacts, lookup: Lookup): Promise<Finding[]> {
  const answer = await lookUp(lookup, domain, 'TXT');
  const published = answer.kind === 'found' ? answer.values.filter(isSpf) : [];
  const silent: SubjectFacts = { subject: 'spf', name: domain, expected: host ? [spfText(host)] : [], seen: published };
  if (answer.kind === 'failed') return unanswered(silent, answer.reason);
  // Ten look-ups and some dozens of networks are all that a record may be of use with; one of thousands of terms was made to cost something.
  const longest = Math.max(0, ...published.map((text) => text.split(' ').length));
  if (longest > MOST_TERMS) {
    const fault: FindingDraft = {
      code: 'spf-too-much',
      verdict: 'wrong',
      headline: `The record has ${longest} terms; more than ${MOST_TERMS} are not looked through.`,
      seen: published.map((text) => `${text.slice(0, 300)}…`),
      remedy: 'Have it made shorter. Nothing is proposed here, because nothing in it may be lost.',
    };
    return settle({ ...silent, expected: [] }, [fault], fault);
  }
  const texts = answer.kind === 'found' ? answer.values : [];
  const found: Judged =
    published.length === 1
      ? await judgeRecord(domain, published[0] ?? '', host, lookup)
      : { faults: await whyNotOne(domain, texts, sibling, lookup), silent: null, others: null };
  if (found.silent !== null) return unanswered(silent, found.silent);
  const others = found.others === null ? '' : `; others get ${found.others}`;
  const good: FindingDraft = host
    ? { code: 'spf-good', verdict: 'good', headline: `The record lets this host send, at each of its addresses${others}.` }
    : { code: 'spf-elsewhere-good', verdict: 'good', headline: `A record is published${others}.` };
  const theirs = found.faults.filter((fault) => fault.publish === undefined);
  if (theirs.length === 0) return settle({ ...silent, expected: published }, found.faults, good);
  // Where others send, nothing is known of who must be let in: what is published can be mended, and nothing can be made up.
  if (host === null && published.length === 0) return settle({ ...silent, expected: [] }, found.faults, good);
  // Never a second record: what is published is kept, and ours is worked into it.
  const proposal = await proposeSpf(domain, published, leadingHost(host), lookup);
  const record = domainRecord(domain, 'spf', 'TXT', domain, proposal.value);
  const isTooDear = proposal.lookups > MOST_LOOKUPS;
  return settle(
    { ...silent, expected: isTooDear ? [`a record of at most ${MOST_LOOKUPS} look-ups`] : [proposal.value] },
    found.faults.map((fault) => (fault.publish === undefined ? withProposal(fault, isTooDear, record, proposal.changes) : fault)),
    good,
  );
}

function withProposal(
  fault: FindingDraft,
  isTooDear: boolean,
  record: SheetRecord,
  changes: { term: string; why: string }[],
): FindingDraft {
  if (isTooDear)
    return {
      ...fault,
      remedy: `It can’t be brought under ${MOST_LOOKUPS} look-ups without taking something out: find out with the customer which of the senders are no longer used, and remove their terms. Nothing is proposed until then.`,
    };
  const dropped = changes.map(({ term, why }) => `“${term}”: ${why}`).join('; ');
  return { ...fault, remedy: `${fault.remedy ?? ''}${dropped === '' ? '' : ` Left out or changed: ${dropped}.`}`, publish: [record] };
}

/** None, or more than one: why. */
async function whyNotOne(domain: string, texts: readonly string[], sibling: string, lookup: Lookup): Promise<FindingDraft[]> {
  const published = texts.filter(isSpf);
  if (published.length > 1)
    return [
      {
        code: 'spf-several',
        verdict: 'wrong',
        headline: `${published.length} SPF records are published; receivers then use none of them.`,
        remedy: 'Remove them all, and publish the one merged record below.',
      },
    ];
  const near = texts.filter((text) => /v\s*=\s*spf1/i.test(text.slice(0, 40)));
  if (near.length > 0)
    return [
      /^\s*["“”']/.test(near[0] ?? '')
        ? {
            code: 'spf-quotes',
            verdict: 'wrong',
            headline: 'The SPF record is published with quotes as part of its text, so nobody can read it.',
            seen: near,
            remedy: 'Type the value without quotes, as below; the form sets them by itself. Remove the old one.',
          }
        : {
            code: 'spf-not-read',
            verdict: 'wrong',
            headline: `A text that was meant for SPF does not begin with “v=spf1 ”, but with “${near[0]?.slice(0, 40)}”.`,
            seen: near,
            remedy: 'Replace it by the record below.',
          },
    ];
  const doubled = `${domain}.${domain}`;
  const elsewhere = await lookUp(lookup, doubled, 'TXT');
  const misplaced = elsewhere.kind === 'found' ? elsewhere.values.filter(isSpf) : [];
  if (misplaced.length > 0 && !(await isWildcard(doubled, 'TXT', elsewhere, sibling, lookup)))
    return [
      {
        code: 'spf-doubled',
        verdict: 'wrong',
        headline: `The record is published under a doubled name, ${doubled}.`,
        seen: misplaced.map((text) => `at ${doubled}: ${text}`),
        remedy: 'The DNS form appends the zone by itself: leave the name empty, or type “@”. Then remove the misplaced one.',
      },
    ];
  const old = await lookUp(lookup, domain, 'SPF');
  if (old.kind === 'found')
    return [
      {
        code: 'spf-old-type',
        verdict: 'wrong',
        headline: 'The record is published with the retired type SPF, and not as TXT.',
        seen: [`type SPF: ${answerText(old)}`],
        remedy: 'Publish it with the type TXT, as below, and remove the old one.',
      },
    ];
  return [{ code: 'spf-none', verdict: 'missing', headline: 'No SPF record is published.', remedy: 'Publish the TXT record below.' }];
}

interface Judged {
  /** A fault with records of its own is not mended in the domain's record. */
  faults: FindingDraft[];
  /** Why a look-up that decides got no answer. */
  silent: string | null;
  /** What a sender gets whom nobody has named. */
  others: SpfResult | null;
}

/** Everything that is wrong with the one record. */
async function judgeRecord(domain: string, text: string, host: HostFacts | null, lookup: Lookup): Promise<Judged> {
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
          remedy: 'Replace it by the record below.',
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
      remedy: 'Take out what is no longer used. The record below writes some networks out to get under the limit.',
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
      remedy: 'Replace the record by the one below.',
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
      headline: 'The record ends in “?all”, which says nothing about other senders.',
      remedy: SOFT_END,
    });
  if (parsed.record.redirect !== null && !all && strangers.others === 'neutral')
    faults.push({
      code: 'spf-neutral-end',
      verdict: 'weak',
      headline: `The record at ${parsed.record.redirect}, to which this one leads, says nothing about other senders.`,
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
      remedy: 'Replace the record by the one below; if somebody else still sends by “ptr”, add their addresses.',
    });
  if (text.length > LONGEST_RECORD)
    faults.push({
      code: 'spf-too-long',
      verdict: 'weak',
      headline: `The record has ${text.length} octets; more than ${LONGEST_RECORD} may not arrive.`,
      remedy:
        'Take out what is no longer used, or move networks into an include of their own; the record below is as short as it gets by itself.',
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
      remedy: 'Replace the record by the one below: theirs is kept, this host is added.',
    });
  if (lagging.length > 0)
    faults.push({
      code: 'spf-host-unresolved',
      verdict: 'wrong',
      headline: `The record names ${host.name}, which does not lead to ${lagging.join(' and ')} yet.`,
      remedy: `Nothing is wrong with the domain’s record. Publish the ${lagging.length === 1 ? 'address' : 'addresses'} below in the host’s zone.`,
      expected: lagging.map((address) => `${host.name} leads to ${address}`),
      publish: hostRecords(host).filter(
        (record) => record.subject === 'host' && lagging.some((address) => sameAddress(record.value, address)),
      ),
    });
  return { faults, silent: null };
}

const permanent = ({ isVoid, reason }: { isVoid: boolean; reason: string }): FindingDraft =>
  isVoid
    ? {
        code: 'spf-void',
        verdict: 'wrong',
        headline: `Too many names in the record lead nowhere: ${reason}.`,
        remedy: 'Replace the record by the one below, without the terms that lead nowhere.',
      }
    : {
        code: 'spf-permerror',
        verdict: 'wrong',
        headline: `Receivers can’t evaluate the record to its end: ${reason}.`,
        remedy: 'Replace the record by the one below.',
      };

/** What whoever is not named in the record gets. Behind our own term a record may be broken, or open, and our mail passes all the same. */
async function judgeStrangers(domain: string, record: SpfRecord, lookup: Lookup): Promise<Judged> {
  const anyone = (headline: string): Judged => ({
    faults: [{ code: 'spf-anyone', verdict: 'wrong', headline, remedy: 'Replace the record by the one below.' }],
    silent: null,
    others: 'pass',
  });
  const wide = record.mechanisms.find(
    ({ name, qualifier, prefix4, prefix6 }) => name !== 'all' && qualifier === '+' && isWide(prefix4, prefix6),
  );
  if (wide) return anyone(`“${wide.text}” lets a large part of the world send as this domain.`);
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
  if (all?.qualifier === '+') return anyone('The record ends in “+all”: anyone in the world may send as this domain.');
  if (isOpen(results))
    return anyone('The record lets anyone in the world send as this domain: one of its terms leads to a record that is open.');
  return { faults: [], silent: null, others: results[1] ?? null };
}
