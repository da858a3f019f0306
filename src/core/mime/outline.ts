import { createHash } from 'node:crypto';
import { type Breathe, breathe } from '../pieces.ts';
import { type ShownMore, shownMoreInSteps } from '../pop3/shown-size.ts';
import type { ListedAddress } from './addresses.ts';
import { dayOfMail, readMailDate } from './date.ts';
import { fieldsOf, firstField, type HeaderField, MOST_HEADER } from './header.ts';
import { parameter } from './parameters.ts';
import { type Part, readMime, readMimeInSteps } from './reader.ts';
import { addressesOf, envelopeText, structureText } from './structure.ts';
import { decoded, decodedWords, transferDecoded } from './words.ts';

/** Where a part lies in the text, and how it is read; in the order of the text. */
export interface PlacedPart {
  start: number;
  bodyStart: number;
  end: number;
  /** `text/plain` */
  type: string;
  charset: string | null;
  encoding: string;
  children: PlacedPart[];
  message: PlacedPart | null;
}

/** What is known of a text without opening it: all that listing, sorting and most searching ask. Strings of octets are kept as latin1. */
export interface Outline {
  envelope: string;
  bodyStructure: string;
  body: string;
  parts: PlacedPart;
  /** The usual fields as they stand there. */
  header: string;
  keys: SortKeys;
  /** The beginning of the text in letters (RFC 8970). */
  preview: string;
  /** By what the messages of one exchange are known to belong together. */
  thread: string;
  /** What POP3 sends of it more. */
  shownMore: ShownMore;
}

/** What messages are put in order by (RFC 5256), in letters. */
export interface SortKeys {
  /** When it says that it was sent; null where it says nothing that can be read. In ms. */
  sentAt: number | null;
  /** The day of which it says that it was sent, in its own zone: the ms at which that day begins in UTC. Texts that were read earlier lack it. */
  sentDay?: number | null;
  subject: string;
  from: string;
  to: string;
  cc: string;
  messageId: string | null;
  /** The messages that it answers, the oldest first. */
  references: string[];
}

/** The fields that mail programs ask for in their lists; whoever wants others has the text opened. */
export const USUAL_FIELDS: ReadonlySet<string> = new Set(
  `from to cc bcc sender reply-to subject date message-id in-reply-to references content-type content-transfer-encoding
   mime-version content-disposition content-language x-priority priority importance newsgroups list-id list-post list-unsubscribe list-unsubscribe-post
   disposition-notification-to authentication-results auto-submitted precedence user-agent x-mailer return-path delivered-to resent-from
   resent-to resent-date x-spam-flag followup-to x-label x-list organization face x-face x-mozilla-keys x-draft-info`
    .split(/\s+/)
    .filter((name) => name !== ''),
);

/** Letters of the beginning (RFC 8970 §3.1: at most 256). */
const PREVIEW_LENGTH = 200;
/** Octets of a text part that the beginning is looked for in. */
const PREVIEW_READ = 16 * 1024;
const MOST_REFERENCES = 100;
/** Octets of them that are kept; a message that has more has its text opened. */
const MOST_USUAL = 32 * 1024;
/** Whether a kept header is not all of the usual fields. */
export const isHeaderCut = (header: string): boolean => header.length >= MOST_USUAL;

/** Reads all that is kept of a text, in linear time. */
export function outlineOf(text: Buffer): Outline {
  const sizing = shownMoreInSteps(text);
  for (;;) {
    const step = sizing.next();
    if (step.done) return outlineFrom(text, readMime(text), step.value);
  }
}

/** As `outlineOf`, with a breath now and then, since a text may be large. */
export async function outlineInTurns(text: Buffer, pause: Breathe = breathe): Promise<Outline> {
  const root = await inTurns(readMimeInSteps(text), pause);
  return outlineFrom(text, root, await inTurns(shownMoreInSteps(text), pause));
}

async function inTurns<Result>(work: Generator<unknown, Result>, pause: Breathe): Promise<Result> {
  for (;;) {
    const step = work.next();
    if (step.done) return step.value;
    await pause();
  }
}

function outlineFrom(text: Buffer, root: Part, shownMore: ShownMore): Outline {
  const keys = sortKeysOf(root.fields);
  return {
    envelope: envelopeText(root.fields),
    bodyStructure: structureText(root, true),
    body: structureText(root, false),
    parts: placed(root),
    header: usual(root.fields).slice(0, MOST_USUAL),
    keys,
    preview: previewOf(text, root),
    thread: threadOf(keys, text),
    shownMore,
  };
}

const usual = (fields: readonly HeaderField[]): string =>
  fields
    .filter((one) => USUAL_FIELDS.has(one.name))
    .map((one) => one.raw)
    .join('');

/** All of the usual fields of a text. */
export const usualHeader = (text: Buffer): string => usual(fieldsOf(text, 0, headerEnd(text)));

/** Where the header of a text ends: before the first empty line (RFC 5322 §2.1). */
export function headerEnd(text: Buffer): number {
  const found = /\r?\n\r?\n/.exec(text.toString('latin1', 0, Math.min(text.length, MOST_HEADER)));
  return found ? found.index + 2 : Math.min(text.length, MOST_HEADER);
}

function placed(part: Part): PlacedPart {
  const { start, bodyStart, end, encoding } = part;
  return {
    start,
    bodyStart,
    end,
    type: `${part.type}/${part.subtype}`,
    charset: part.type === 'text' ? parameter(part.contentType, 'charset', decoded) : null,
    encoding,
    children: part.children.map(placed),
    message: part.message && placed(part.message),
  };
}

function sortKeysOf(fields: readonly HeaderField[]): SortKeys {
  const first = (name: string): string => {
    const one: ListedAddress | undefined = addressesOf(fields, name).find((address) => address.mailbox !== null);
    return one?.mailbox ?? '';
  };
  return {
    sentAt: readMailDate(firstField(fields, 'date') ?? ''),
    sentDay: dayOfMail(firstField(fields, 'date') ?? ''),
    subject: decodedWords(firstField(fields, 'subject') ?? ''),
    from: first('from'),
    to: first('to'),
    cc: first('cc'),
    messageId: messageIds(firstField(fields, 'message-id') ?? '')[0] ?? null,
    references: [
      ...messageIds(firstField(fields, 'references') ?? ''),
      ...messageIds(firstField(fields, 'in-reply-to') ?? '').slice(0, 1),
    ].filter((one, place, all) => all.indexOf(one) === place),
  };
}

const messageIds = (value: string): string[] => [...value.matchAll(/<[^<>\s]{1,500}>/g)].slice(0, MOST_REFERENCES).map(([id]) => id);

/** All who answer the same first message say so in References; without any, it is the beginning itself (RFC 5322 §3.6.4). */
function threadOf({ references, messageId }: SortKeys, text: Buffer): string {
  return createHash('sha256')
    .update(references[0] ?? messageId ?? text)
    .digest('hex')
    .slice(0, 24);
}

function previewOf(text: Buffer, root: Part): string {
  const part = firstText(root, 'plain') ?? firstText(root, 'html');
  if (!part) return '';
  const octets = transferDecoded(text.subarray(part.bodyStart, Math.min(part.end, part.bodyStart + PREVIEW_READ)), part.encoding);
  if (!octets) return '';
  const letters = decoded(octets, parameter(part.contentType, 'charset', decoded));
  const words = part.subtype === 'html' ? withoutTags(letters) : letters.replace(/^>.*$/gm, '');
  return [...words.replace(/[\s\p{Cc}]+/gu, ' ').trim()].slice(0, PREVIEW_LENGTH).join('');
}

function firstText(part: Part, subtype: string): Part | null {
  if (part.type === 'text' && part.subtype === subtype) return part;
  for (const child of part.children) {
    const found = firstText(child, subtype);
    if (found) return found;
  }
  return null;
}

/** The words of a page, without a parser: good enough to tell what a message is about. */
function withoutTags(html: string): string {
  let words = '';
  for (let at = 0; at < html.length; ) {
    const tag = html.indexOf('<', at);
    words += `${html.slice(at, tag < 0 ? html.length : tag)} `;
    if (tag < 0) break;
    const hidden = /^<(style|script|title|head)\b/i.exec(html.slice(tag, tag + 8))?.[1]?.toLowerCase();
    const end = hidden === undefined ? html.indexOf('>', tag) : html.toLowerCase().indexOf(`</${hidden}`, tag);
    if (end < 0) break;
    at = hidden === undefined ? end + 1 : end + 2;
    if (hidden !== undefined) {
      const close = html.indexOf('>', at);
      if (close < 0) break;
      at = close + 1;
    }
  }
  return words.replace(/&(nbsp|amp|lt|gt|quot|#39);/g, (_all, name) => ENTITIES[name as keyof typeof ENTITIES]);
}
const ENTITIES = { nbsp: ' ', amp: '&', lt: '<', gt: '>', quot: '"', '#39': "'" };
