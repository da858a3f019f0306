import { answerText, type Lookup, lookUp } from '../records/answers.ts';
import { domainRecord, type HostFacts, type SheetRecord, spfText } from '../records/sheet.ts';
import { reasonWords } from '../spf/change-words.ts';
import { leadingHost, proposeSpf, type SpfChange } from '../spf/merge.ts';
import { isSpf } from '../spf/record.ts';
import { MOST_LOOKUPS } from '../spf/run.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settledFindings, unanswered } from './finding.ts';
import { type Judged, judgeRecord, MOST_TERMS } from './spf-record.ts';
import { isWildcard } from './wildcard.ts';

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
      headline: `The record has ${longest} terms; no more than ${MOST_TERMS} are evaluated.`,
      seen: published.map((text) => `${text.slice(0, 300)}…`),
      remedy: 'Shorten it. No record is proposed, because none of its terms may be lost.',
    };
    return settledFindings({ ...silent, expected: [] }, [fault], fault);
  }
  const texts = answer.kind === 'found' ? answer.values : [];
  const found: Judged =
    published.length === 1
      ? await judgeRecord(domain, published[0] ?? '', host, lookup)
      : { faults: await whyNotOne(domain, texts, sibling, lookup), silent: null, others: null };
  if (found.silent !== null) return unanswered(silent, found.silent);
  const others = found.others === null ? '' : `; others get ${found.others}`;
  const good: FindingDraft = host
    ? { code: 'spf-good', verdict: 'good', headline: `The record lets this host send from all its addresses${others}.` }
    : { code: 'spf-elsewhere-good', verdict: 'good', headline: `A record is published${others}.` };
  const theirs = found.faults.filter((fault) => fault.publish === undefined);
  if (theirs.length === 0) return settledFindings({ ...silent, expected: published }, found.faults, good);
  // Where others send, nothing is known of who must be let in: what is published can be mended, and nothing can be made up.
  if (host === null && published.length === 0) return settledFindings({ ...silent, expected: [] }, found.faults, good);
  // Never a second record: what is published is kept, and ours is worked into it.
  const proposal = await proposeSpf(domain, published, leadingHost(host), lookup);
  const record = domainRecord(domain, 'spf', 'TXT', domain, proposal.value);
  const { isTooDear } = proposal;
  return settledFindings(
    {
      ...silent,
      expected: isTooDear ? [`a record of at most ${MOST_LOOKUPS} look-ups, at most two of them void`] : [proposal.value],
    },
    found.faults.map((fault) => (fault.publish === undefined ? withProposal(fault, isTooDear, record, proposal.changes) : fault)),
    good,
  );
}

function withProposal(fault: FindingDraft, isTooDear: boolean, record: SheetRecord, changes: readonly SpfChange[]): FindingDraft {
  if (isTooDear)
    return {
      ...fault,
      remedy: `It cannot be reduced to ${MOST_LOOKUPS} look-ups, at most two of them void, without removing a sender. Ask the customer which senders are no longer used, and remove their terms.`,
    };
  const dropped = changes.map((one) => `“${one.term}”: ${reasonWords(one)}`).join('; ');
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
            headline: 'The SPF record is published with quotes as part of its text, so receivers cannot read it.',
            seen: near,
            remedy: 'Enter the value without quotes, as below; the form adds them. Remove the old record.',
          }
        : {
            code: 'spf-not-read',
            verdict: 'wrong',
            headline: `A text meant as SPF does not begin with “v=spf1 ”, but with “${near[0]?.slice(0, 40)}”.`,
            seen: near,
            remedy: 'Replace it with the record below.',
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
        remedy:
          'The DNS form appends the zone: enter the short name below; for “@” the name may also be left empty. Then remove the misplaced record.',
      },
    ];
  const old = await lookUp(lookup, domain, 'SPF');
  if (old.kind === 'found')
    return [
      {
        code: 'spf-old-type',
        verdict: 'wrong',
        headline: 'The record is published with the obsolete type SPF instead of TXT.',
        seen: [`type SPF: ${answerText(old)}`],
        remedy: 'Publish it with the type TXT, as below, and remove the old one.',
      },
    ];
  return [{ code: 'spf-none', verdict: 'missing', headline: 'No SPF record is published.', remedy: 'Publish the TXT record below.' }];
}
