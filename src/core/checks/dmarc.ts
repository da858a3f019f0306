import { isDmarc, parseDmarc } from '../dmarc/record.ts';
import type { Lookup } from '../records/answers.ts';
import type { SheetRecord } from '../records/sheet.ts';
import { type Finding, type FindingDraft, finding, unanswered } from './finding.ts';

/** Is there one valid DMARC policy where receivers look for it? */
export async function checkDmarc(domain: string, record: SheetRecord, lookup: Lookup): Promise<Finding> {
  const name = `_dmarc.${domain}`;
  const answer = await lookup(name, 'TXT');
  if (answer.kind === 'failed') return unanswered('dmarc', name, [record.value], answer.reason);
  const texts = answer.kind === 'found' ? answer.values : [];
  const published = texts.filter(isDmarc);
  const found = (draft: Pick<FindingDraft, 'code' | 'verdict' | 'headline' | 'why' | 'remedy'> & { seen?: string[] }) =>
    finding({
      subject: 'dmarc',
      name,
      expected: draft.verdict === 'good' ? published : [record.value],
      seen: texts,
      ...draft,
      publish: draft.verdict === 'good' ? [] : [record],
    });
  const why = 'Receivers are not told what to do with forged mail, and large ones distrust domains without a policy.';
  if (texts.length === 0) {
    const doubled = `${name}.${domain}`;
    const elsewhere = await lookup(doubled, 'TXT');
    if (elsewhere.kind === 'found')
      return found({
        code: 'dmarc-doubled',
        verdict: 'wrong',
        headline: `The policy is published under a doubled name, ${doubled}.`,
        seen: elsewhere.values.map((text) => `at ${doubled}: ${text}`),
        why,
        remedy: 'The DNS form appends the zone by itself: type “_dmarc” as the name, without the domain.',
      });
    return found({
      code: 'dmarc-none',
      verdict: 'missing',
      headline: 'No DMARC policy is published.',
      why,
      remedy: 'Publish the TXT record below.',
    });
  }
  if (published.length > 1)
    return found({
      code: 'dmarc-several',
      verdict: 'wrong',
      headline: `${published.length} policies are published; receivers then use none (RFC 7489 §6.6.3).`,
      why,
      remedy: 'Keep one of them, and remove the others.',
    });
  const parsed = parseDmarc(published[0] ?? '');
  if (published.length === 0 || parsed.kind === 'invalid')
    return found({
      code: 'dmarc-syntax',
      verdict: 'wrong',
      headline: `The record is not a valid policy: ${parsed.kind === 'invalid' && published.length > 0 ? parsed.reason : 'it does not begin with v=DMARC1'}.`,
      why,
      remedy: 'Replace it by the record below.',
    });
  return found({
    code: 'dmarc-good',
    verdict: 'good',
    headline:
      parsed.record.policy === 'none'
        ? 'A policy is published; it watches only (p=none).'
        : `A policy is published: ${parsed.record.policy} what is forged.`,
    why: 'Receivers know what to do with mail that only pretends to be from this domain.',
    remedy: '',
  });
}
