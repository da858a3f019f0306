import { answerText, type Lookup } from '../records/answers.ts';
import { domainRecord, type HostFacts, spfText } from '../records/sheet.ts';
import { spfCosts } from '../spf/costs.ts';
import { evaluateSpf, MOST_LOOKUPS } from '../spf/evaluate.ts';
import { proposeSpf } from '../spf/merge.ts';
import { isSpf, parseSpf } from '../spf/record.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settle, unanswered } from './finding.ts';

/** RFC 7208 §3.4 */
const LONGEST_RECORD = 512;
export const MOST_TERMS = 500;

/** Does the published SPF record let each address of this host send for the domain? */
export async function checkSpf(domain: string, host: HostFacts, lookup: Lookup): Promise<Finding[]> {
  const answer = await lookup(domain, 'TXT');
  const published = answer.kind === 'found' ? answer.values.filter(isSpf) : [];
  const silent: SubjectFacts = { subject: 'spf', name: domain, expected: [spfText(host)], seen: published };
  if (answer.kind === 'failed') return unanswered(silent, answer.reason);
  // Ten look-ups and some dozens of networks are all that a record may be of use with; one of thousands of terms was made to cost something.
  const longest = Math.max(0, ...published.map((text) => text.split(' ').length));
  if (longest > MOST_TERMS) {
    const fault: FindingDraft = {
      code: 'spf-too-much',
      verdict: 'wrong',
      headline: `The record has ${longest} terms; more than ${MOST_TERMS} are not looked through.`,
      seen: published.map((text) => `${text.slice(0, 300)}…`),
      remedy: 'Have it made shorter. Nothing is proposed here, because nothing that stands in it may be lost.',
    };
    return settle({ ...silent, expected: [] }, [fault], fault);
  }
  const good: FindingDraft = {
    code: 'spf-good',
    verdict: 'good',
    headline: 'The record lets this host send, at each of its addresses.',
  };
  const found =
    published.length === 1
      ? await judgeRecord(domain, published[0] ?? '', host, lookup)
      : { faults: await whyNotOne(domain, published, lookup), silent: null };
  if (found.silent !== null) return unanswered(silent, found.silent);
  if (found.faults.length === 0) return settle({ ...silent, expected: published }, [], good);
  // Never a second record: what is published is kept, and ours is worked into it.
  const { outletIncludes = [], name, addresses } = host;
  const proposal = await proposeSpf(domain, published, { name, addresses, outletIncludes }, lookup);
  const dropped = proposal.changes.map(({ term, why }) => `“${term}”: ${why}`).join('; ');
  const record = domainRecord(domain, 'spf', 'TXT', domain, proposal.value);
  return settle(
    { ...silent, expected: [proposal.value] },
    found.faults.map((fault) => ({
      ...fault,
      remedy: `${fault.remedy}${dropped === '' ? '' : ` Left out or changed: ${dropped}.`}`,
      publish: [record],
    })),
    good,
  );
}

/** None, or more than one: why. */
async function whyNotOne(domain: string, published: readonly string[], lookup: Lookup): Promise<FindingDraft[]> {
  if (published.length > 1)
    return [
      {
        code: 'spf-several',
        verdict: 'wrong',
        headline: `${published.length} SPF records are published; receivers then use none of them.`,
        remedy: 'Remove them all, and publish the one merged record below.',
      },
    ];
  const doubled = `${domain}.${domain}`;
  const elsewhere = await lookup(doubled, 'TXT');
  const misplaced = elsewhere.kind === 'found' ? elsewhere.values.filter(isSpf) : [];
  if (misplaced.length > 0)
    return [
      {
        code: 'spf-doubled',
        verdict: 'wrong',
        headline: `The record is published under a doubled name, ${doubled}.`,
        seen: misplaced.map((text) => `at ${doubled}: ${text}`),
        remedy: 'The DNS form appends the zone by itself: leave the name empty, or type “@”. Then remove the misplaced one.',
      },
    ];
  const old = await lookup(domain, 'SPF');
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

/** Everything that is wrong with the one record; `silent` when a look-up that decides got no answer. */
async function judgeRecord(
  domain: string,
  text: string,
  host: HostFacts,
  lookup: Lookup,
): Promise<{ faults: FindingDraft[]; silent: string | null }> {
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
    };
  const costs = await spfCosts(text, domain, lookup);
  if (costs.total > MOST_LOOKUPS)
    faults.push({
      code: 'spf-too-many-lookups',
      verdict: 'wrong',
      headline: `The record asks for ${costs.total} look-ups; ${MOST_LOOKUPS} are allowed. ${costs.terms.map(({ term, lookups }) => `${term}: ${lookups}`).join(', ')}.`,
      remedy: 'Take out what is no longer used. The record below writes some networks out to get under the limit.',
    });
  const uncovered: string[] = [];
  for (const clientAddress of host.addresses) {
    const outcome = await evaluateSpf({ clientAddress, sender: `postmaster@${domain}`, domain, helo: host.name }, lookup);
    if (outcome.result === 'temperror') return { faults, silent: outcome.reason };
    if (outcome.result === 'pass') continue;
    if (outcome.result !== 'permerror') uncovered.push(`${clientAddress} gets ${outcome.result}`);
    else if (!faults.some((one) => one.code === 'spf-void' || one.code === 'spf-permerror' || one.code === 'spf-too-many-lookups'))
      faults.push(
        outcome.isVoid
          ? {
              code: 'spf-void',
              verdict: 'wrong',
              headline: `Too many names in the record lead nowhere: ${outcome.reason}.`,
              remedy: 'Replace the record by the one below, without the terms that lead nowhere.',
            }
          : {
              code: 'spf-permerror',
              verdict: 'wrong',
              headline: `Receivers can’t evaluate the record: ${outcome.reason}.`,
              remedy: 'Replace the record by the one below.',
            },
      );
  }
  if (uncovered.length > 0)
    faults.push({
      code: 'spf-host-left-out',
      verdict: 'wrong',
      headline: `The record leaves this host out: ${uncovered.join(', ')}.`,
      remedy: 'Replace the record by the one below: theirs is kept, this host is added.',
    });
  const absent = (host.outletIncludes ?? []).filter(
    (name) => !parsed.record.mechanisms.some((one) => one.name === 'include' && one.value?.toLowerCase() === name),
  );
  if (absent.length > 0)
    faults.push({
      code: 'spf-host-left-out',
      verdict: 'wrong',
      headline: `The record leaves out our smart host: include:${absent.join(', include:')} is missing.`,
      remedy: 'Replace the record by the one below.',
    });
  const all = parsed.record.mechanisms.find((one) => one.name === 'all');
  if (all?.qualifier === '+')
    faults.push({
      code: 'spf-anyone',
      verdict: 'wrong',
      headline: 'The record ends in “+all”: anyone in the world may send as this domain.',
      remedy: 'Replace the record by the one below.',
    });
  if (all?.qualifier === '?')
    faults.push({
      code: 'spf-neutral-end',
      verdict: 'weak',
      headline: 'The record ends in “?all”, which says nothing about other senders.',
      remedy: 'End the record in “-all”, as below.',
    });
  if (!all && parsed.record.redirect === null)
    faults.push({
      code: 'spf-no-end',
      verdict: 'weak',
      headline: 'The record has no “all” at its end.',
      remedy: 'End the record in “-all”, as below.',
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
  return { faults, silent: null };
}
