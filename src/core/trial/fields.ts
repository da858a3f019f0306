import { domainSide } from '../address/sides.ts';
import { listedAddresses } from '../mime/addresses.ts';
import { readMailDate } from '../mime/date.ts';
import { firstField, type HeaderField } from '../mime/header.ts';
import { decodedWords } from '../mime/words.ts';
import { type MessageDraft, type MessageFinding, messageFindings } from './finding.ts';

/** RFC 5322 §3.6: at most once each. */
const ONCE = ['date', 'from', 'sender', 'reply-to', 'to', 'cc', 'bcc', 'message-id', 'in-reply-to', 'references', 'subject'];
const HOUR = 3_600_000;
/** A clock that is ahead by so much is set wrong, or set ahead. */
const MOST_AHEAD = 2 * HOUR;
/** Servers give up after some days, so nothing honest is older. */
const MOST_BEHIND = 7 * 24 * HOUR;

/** What the header lacks, says twice, or says in a way that deceives. */
export function fieldFindings(fields: readonly HeaderField[], at: number): MessageFinding[] {
  const drafts = [...dateDrafts(fields, at), ...idDrafts(fields), ...authorDrafts(fields), ...formDrafts(fields)];
  return messageFindings(
    'fields',
    drafts.length > 0 ? drafts : [{ code: 'fields-good', headline: 'The header is complete and in order.' }],
  );
}

type Drafts = MessageDraft<'fields'>[];

function dateDrafts(fields: readonly HeaderField[], at: number): Drafts {
  const date = firstField(fields, 'date');
  if (date === null)
    return [{ code: 'fields-date-missing', headline: 'There is no Date.', remedy: 'Configure the sending program to add it.' }];
  const sentAt = readMailDate(date);
  if (sentAt === null)
    return [
      {
        code: 'fields-date-broken',
        headline: 'Its Date is invalid.',
        seen: [date],
        remedy: 'Write it as in RFC 5322 §3.3: Tue, 24 Nov 2026 09:30:00 +0100',
      },
    ];
  if (sentAt - at > MOST_AHEAD || at - sentAt > MOST_BEHIND)
    return [
      {
        code: 'fields-date-far',
        headline: sentAt > at ? 'Its Date is in the future.' : 'Its Date is long ago.',
        seen: [date],
        remedy: 'Set the clock and time zone of the sending machine.',
      },
    ];
  return [];
}

function idDrafts(fields: readonly HeaderField[]): Drafts {
  const id = firstField(fields, 'message-id');
  if (id === null)
    return [{ code: 'fields-id-missing', headline: 'There is no Message-ID.', remedy: 'Configure the sending program to add it.' }];
  if (!/^<[^<>@\s]{1,250}@[^<>@\s]{1,250}>$/.test(id))
    return [
      {
        code: 'fields-id-broken',
        headline: 'Its Message-ID is invalid.',
        seen: [id],
        remedy: 'Write it as <something-unique@its.domain>.',
      },
    ];
  return [];
}

function authorDrafts(fields: readonly HeaderField[]): Drafts {
  const from = firstField(fields, 'from');
  if (from === null) return [{ code: 'fields-from-missing', headline: 'There is no From.', remedy: 'Say who writes.' }];
  const [author] = listedAddresses(from);
  const shown = /[^\s<>()"',;:]{1,64}@([^\s<>()"',;:@]{1,255})/.exec(decodedWords(author?.name ?? '').slice(0, 1000));
  const own = (author?.host ?? '').toLowerCase();
  if (shown && domainSide(shown[0]).toLowerCase() !== own)
    return [
      {
        code: 'fields-name-is-address',
        headline: `From shows ${shown[0]} as the name of ${author?.mailbox ?? ''}@${own}.`,
        seen: [decodedWords(from)],
        remedy: 'Use a name as the display name, not another address.',
      },
    ];
  return [];
}

function formDrafts(fields: readonly HeaderField[]): Drafts {
  const drafts: Drafts = [];
  const counts = new Map<string, number>();
  for (const { name } of fields) counts.set(name, (counts.get(name) ?? 0) + 1);
  const doubled = ONCE.filter((name) => (counts.get(name) ?? 0) > 1);
  if (doubled.length > 0)
    drafts.push({
      code: 'fields-doubled',
      headline: `${doubled.length === 1 ? 'A field stands' : 'Fields stand'} more than once that may appear only once: ${doubled.join(', ')}.`,
      seen: fields.filter((one) => doubled.includes(one.name)).map((one) => one.raw.trim()),
      remedy: 'Keep one of each.',
    });
  const subject = decodedWords(firstField(fields, 'subject') ?? '');
  if (subject.trim() === '') drafts.push({ code: 'fields-subject-missing', headline: 'There is no subject.', remedy: 'Add a subject.' });
  if (
    /^\s*(re|aw|sv|antw|rif|res)\s*:/i.test(subject) &&
    firstField(fields, 'in-reply-to') === null &&
    firstField(fields, 'references') === null
  )
    drafts.push({
      code: 'fields-false-answer',
      headline: 'It looks like a reply, but names no message.',
      seen: [subject],
      remedy: 'Remove “Re:” from the subject, or name the message in In-Reply-To.',
    });
  if (firstField(fields, 'to') === null && firstField(fields, 'cc') === null)
    drafts.push({
      code: 'fields-to-missing',
      headline: 'It has no recipients: there is neither To nor Cc.',
      remedy: 'Put the recipient into To.',
    });
  const plain = fields.filter((one) => /[\x80-\xff]/.test(one.raw));
  if (plain.length > 0)
    drafts.push({
      code: 'fields-eight-bit',
      headline: `There are unencoded non-ASCII characters in ${[...new Set(plain.map((one) => one.name))].slice(0, 5).join(', ')}.`,
      remedy: 'Encode them (RFC 2047).',
    });
  return drafts;
}
