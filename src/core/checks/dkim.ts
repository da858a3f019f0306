import { keyRecordText, parseKeyRecord } from '../dkim/key-record.ts';
import { parseTags, withoutSpace } from '../dkim/tags.ts';
import type { Lookup } from '../records/answers.ts';
import { keyName, type SheetRecord } from '../records/sheet.ts';
import { type Finding, type FindingDraft, finding, unanswered } from './finding.ts';

/** Is the key that signs the key that is published? */
export async function checkDkim(
  domain: string,
  key: { selector: string; publicKey: string },
  record: SheetRecord,
  lookup: Lookup,
): Promise<Finding> {
  const name = keyName(key.selector, domain);
  const expected = [keyRecordText(key.publicKey)];
  const answer = await lookup(name, 'TXT');
  if (answer.kind === 'failed') return unanswered('dkim', name, expected, answer.reason);
  const seen = answer.kind === 'found' ? answer.values : [];
  const found = (draft: Pick<FindingDraft, 'code' | 'verdict' | 'headline' | 'why' | 'remedy'> & { seen?: string[] }) =>
    finding({ subject: 'dkim', name, expected, seen, ...draft, publish: draft.verdict === 'good' ? [] : [record] });
  const why = 'Receivers can’t verify the signatures of this domain’s messages, and DMARC loses its surest leg.';
  if (seen.length === 0) {
    const doubled = `${name}.${domain}`;
    const elsewhere = await lookup(doubled, 'TXT');
    if (elsewhere.kind === 'found')
      return found({
        code: 'dkim-doubled',
        verdict: 'wrong',
        headline: `The key is published under a doubled name, ${doubled}.`,
        seen: elsewhere.values.map((text) => `at ${doubled}: ${text}`),
        why,
        remedy: `The DNS form appends the zone by itself: type “${record.relativeName}” as the name, without the domain.`,
      });
    return found({
      code: 'dkim-none',
      verdict: 'missing',
      headline: `No key is published for the selector ${key.selector}.`,
      why,
      remedy: 'Publish the TXT record below.',
    });
  }
  if (seen.length > 1)
    return found({
      code: 'dkim-several',
      verdict: 'wrong',
      headline: `${seen.length} records stand at one selector; receivers may pick any of them.`,
      why,
      remedy: 'Remove them all and publish the one below.',
    });
  const text = seen[0] ?? '';
  const published = parseKeyRecord(text);
  const tags = parseTags(text);
  const part = tags.kind === 'ok' ? withoutSpace(tags.tags.get('p') ?? '') : '';
  if (published.kind === 'revoked')
    return found({
      code: 'dkim-revoked',
      verdict: 'wrong',
      headline: 'The published key is revoked: its p= is empty.',
      why,
      remedy: 'Publish the record below in its place.',
    });
  if (part !== key.publicKey && part.length >= 32 && key.publicKey.startsWith(part))
    return found({
      code: 'dkim-cut-short',
      verdict: 'wrong',
      headline: `The published key is cut short: ${part.length} of ${key.publicKey.length} characters are there.`,
      why,
      remedy: 'Publish the whole value below; if the form takes only 255 characters at once, use the quoted strings.',
    });
  if (published.kind === 'invalid')
    return found({
      code: 'dkim-unreadable',
      verdict: 'wrong',
      headline: `The published record can’t be used: ${published.reason}.`,
      why,
      remedy: 'Publish the record below in its place.',
    });
  if (published.publicKey !== key.publicKey)
    return found({
      code: 'dkim-other-key',
      verdict: 'wrong',
      headline: 'Another key is published than the one that signs.',
      why,
      remedy: 'Publish the record below in its place.',
    });
  if (published.testing)
    return found({
      code: 'dkim-testing',
      verdict: 'weak',
      headline: 'The key is published as a test (t=y); receivers may ignore the signatures.',
      why: 'A signature that is only a test earns no trust.',
      remedy: 'Publish the record without “t=y”, as below.',
    });
  return found({
    code: 'dkim-good',
    verdict: 'good',
    headline: 'The published key is the key that signs.',
    why: 'Receivers can verify that messages come from this domain unchanged.',
    remedy: '',
  });
}
