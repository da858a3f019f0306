import type { Lookup } from '../records/answers.ts';
import { type HostFacts, type SheetRecord, spfText } from '../records/sheet.ts';
import { evaluateSpf } from '../spf/evaluate.ts';
import { mergeSpf } from '../spf/merge.ts';
import { isSpf, parseSpf } from '../spf/record.ts';
import { type Finding, type FindingDraft, finding, unanswered } from './finding.ts';

/** Does the published SPF record let each address of this host send for the domain? */
export async function checkSpf(domain: string, host: HostFacts, record: SheetRecord, lookup: Lookup): Promise<Finding> {
  const answer = await lookup(domain, 'TXT');
  if (answer.kind === 'failed') return unanswered('spf', domain, [spfText(host.name)], answer.reason);
  const published = answer.kind === 'found' ? answer.values.filter(isSpf) : [];
  // Never a second record: what is published is kept, and ours is worked into it.
  const value = published.length === 0 ? record.value : mergeSpf(published, `a:${host.name}`);
  const found = (draft: Pick<FindingDraft, 'code' | 'verdict' | 'headline' | 'why' | 'remedy'>) =>
    finding({
      subject: 'spf',
      name: domain,
      expected: draft.verdict === 'good' ? published : [value],
      seen: published,
      ...draft,
      publish: draft.verdict === 'good' ? [] : [{ ...record, value }],
    });
  if (published.length === 0)
    return found({
      code: 'spf-none',
      verdict: 'missing',
      headline: 'No SPF record is published.',
      why: 'Receivers can’t tell this host from a stranger that uses the domain’s name.',
      remedy: 'Publish the TXT record below.',
    });
  if (published.length > 1)
    return found({
      code: 'spf-several',
      verdict: 'wrong',
      headline: `${published.length} SPF records are published; receivers then use none of them.`,
      why: 'More than one record is a permanent error (RFC 7208 §4.5): SPF fails for every message.',
      remedy: 'Remove them all, and publish the one merged record below.',
    });
  const text = published[0] ?? '';
  const parsed = parseSpf(text);
  if (parsed.kind === 'invalid')
    return found({
      code: 'spf-syntax',
      verdict: 'wrong',
      headline: `The record is broken at character ${parsed.position + 1}, “${parsed.term}”: ${parsed.reason}.`,
      why: 'One broken term makes the whole record a permanent error (RFC 7208 §4.6).',
      remedy: 'Replace it by the record below.',
    });
  const uncovered: string[] = [];
  for (const address of host.addresses) {
    const outcome = await evaluateSpf({ clientAddress: address, sender: `postmaster@${domain}`, domain, helo: host.name }, lookup);
    if (outcome.result === 'temperror') return unanswered('spf', domain, [text], outcome.reason);
    if (outcome.result === 'permerror')
      return found({
        code: 'spf-permerror',
        verdict: 'wrong',
        headline: `Receivers can’t evaluate the record: ${outcome.reason}.`,
        why: 'SPF then gives a permanent error for every message.',
        remedy: 'Mend the term named above; the record below has ours worked in.',
      });
    if (outcome.result !== 'pass') uncovered.push(`${address} gets ${outcome.result}`);
  }
  if (uncovered.length > 0)
    return found({
      code: 'spf-host-left-out',
      verdict: 'wrong',
      headline: `The record leaves this host out: ${uncovered.join(', ')}.`,
      why: 'Receivers treat mail from here as not authorised by the domain; it goes to junk or is refused.',
      remedy: 'Replace the record by the one below: theirs is kept, this host is added.',
    });
  const all = parsed.record.mechanisms.find((one) => one.name === 'all');
  if (all?.qualifier === '+')
    return found({
      code: 'spf-anyone',
      verdict: 'wrong',
      headline: 'The record ends in “+all”: anyone in the world may send as this domain.',
      why: 'Receivers take such a record for a sign of abuse.',
      remedy: 'Replace the record by the one below.',
    });
  if (all?.qualifier === '?' || (!all && parsed.record.redirect === null))
    return found({
      code: 'spf-open-end',
      verdict: 'weak',
      headline: 'The record does not say what to do with other senders.',
      why: 'A forger gets “neutral”, as if nothing had been said.',
      remedy: 'End the record in “-all”, as below.',
    });
  return found({
    code: 'spf-good',
    verdict: 'good',
    headline: 'The record lets this host send, at each of its addresses.',
    why: 'Receivers see that this host may send for the domain.',
    remedy: '',
  });
}
