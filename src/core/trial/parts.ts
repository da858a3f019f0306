import { isAscii } from 'node:buffer';
import { firstField } from '../mime/header.ts';
import { parameter } from '../mime/parameters.ts';
import type { Part } from '../mime/reader.ts';
import { decoded } from '../mime/words.ts';
import type { Contents } from './contents.ts';
import { type MessageDraft, type MessageFinding, messageFindings } from './finding.ts';

/** Words that are compared. */
const MOST_WORDS = 3000;
/** Fewer words than these say nothing. */
const FEW_WORDS = 10;
/** Of the words of the shorter text, so many are in the other one when both say the same. */
const LEAST_SHARED = 0.5;
/** RFC 5322 §2.1.1, without the line end. */
const LONGEST_LINE = 998;

type Drafts = MessageDraft<'parts'>[];

/** Whether every program can show the text, and whether its forms say the same. */
export function partFindings(text: Buffer, contents: Contents): MessageFinding[] {
  const drafts = [...textDrafts(contents), ...formDrafts(text, contents)];
  return messageFindings('parts', drafts.length > 0 ? drafts : [{ code: 'parts-good', headline: 'Text and structure are in order.' }]);
}

function textDrafts({ plain, html, attached }: Contents): Drafts {
  const plainWords = wordsOf(plain ?? '');
  const htmlWords = wordsOf(html?.words ?? '');
  if (plainWords.size + htmlWords.size === 0 && (html?.pictures ?? 0) === 0 && !attached.some((one) => one.type.startsWith('image/')))
    return [{ code: 'parts-empty', headline: 'It has no text.', remedy: 'Add text.' }];
  if (html === null) return [];
  const drafts: Drafts = [];
  if (html.pictures > 0 && htmlWords.size < FEW_WORDS)
    drafts.push({
      code: 'parts-pictures',
      headline: `The HTML is ${html.pictures === 1 ? 'a picture' : `${html.pictures} pictures`} and hardly any text.`,
      remedy: 'Write the text as text.',
    });
  if (plain === null) {
    drafts.push({
      code: 'parts-html-only',
      headline: 'There is HTML, and no plain text.',
      remedy: 'Send both as multipart/alternative, the plain text first.',
    });
    return drafts;
  }
  if (plainWords.size < FEW_WORDS && htmlWords.size > 4 * FEW_WORDS)
    drafts.push({
      code: 'parts-stub',
      headline: 'The plain text has little of the HTML’s content.',
      seen: [plain.trim()],
      remedy: 'Put the whole text there.',
    });
  else if (Math.min(plainWords.size, htmlWords.size) >= FEW_WORDS) {
    const [fewer, more] = plainWords.size < htmlWords.size ? [plainWords, htmlWords] : [htmlWords, plainWords];
    const shared = [...fewer].filter((word) => more.has(word)).length / fewer.size;
    if (shared < LEAST_SHARED)
      drafts.push({
        code: 'parts-differ',
        headline: `Plain text and HTML have ${Math.round(100 * shared)} % of their words in common.`,
        seen: [`plain text: ${some(plain)}`, `HTML: ${some(html.words)}`],
        remedy: 'Make both from the same text.',
      });
  }
  return drafts;
}

const some = (text: string): string => text.replace(/\s+/g, ' ').trim().slice(0, 100);

/** Words of more than three letters; shorter ones are in every text. */
function wordsOf(text: string): Set<string> {
  const words = new Set<string>();
  for (const [word] of text.toLowerCase().matchAll(/[\p{L}\p{N}]{4,40}/gu)) {
    words.add(word);
    if (words.size >= MOST_WORDS) break;
  }
  return words;
}

function formDrafts(text: Buffer, { root, parts }: Contents): Drafts {
  const drafts: Drafts = [];
  if (parts.some((one) => isBroken(text, one)))
    drafts.push({
      code: 'parts-broken',
      headline: 'A MIME boundary is missing or not closed.',
      remedy: 'Fix the sending program (RFC 2046 §5.1).',
    });
  if (firstField(root.fields, 'mime-version') === null && firstField(root.fields, 'content-type') !== null)
    drafts.push({ code: 'parts-unversioned', headline: 'There is no MIME-Version.', remedy: 'Add MIME-Version: 1.0 to the header.' });
  const strange = parts.map(charsetOf).find((name) => name !== null && !isCharset(name));
  if (strange !== undefined && strange !== null)
    drafts.push({ code: 'parts-charset', headline: 'A part names an unknown charset.', seen: [strange], remedy: 'Use UTF-8.' });
  const plain = parts.find(
    (one) =>
      one.children.length === 0 && one.message === null && one.encoding === '7bit' && !isAscii(text.subarray(one.bodyStart, one.end)),
  );
  if (plain)
    drafts.push({
      code: 'parts-eight-bit',
      headline: 'A part is declared as ASCII but has other bytes.',
      remedy: 'Encode it as quoted-printable or base64.',
    });
  const long = longestLine(text);
  if (long > LONGEST_LINE)
    drafts.push({
      code: 'parts-long-line',
      headline: `A line has ${long} octets.`,
      remedy: 'Break lines, or encode the part as quoted-printable.',
    });
  return drafts;
}

const charsetOf = (part: Part): string | null => (part.type === 'text' ? parameter(part.contentType, 'charset', decoded) : null);

function isCharset(name: string): boolean {
  try {
    new TextDecoder(name.trim());
    return true;
  } catch {
    return false;
  }
}

/** Whether it calls itself a multipart and is none, or has no end (RFC 2046 §5.1.1). */
function isBroken(text: Buffer, part: Part): boolean {
  if (!/^multipart\//i.test(part.contentType.value)) return false;
  const last = part.children.at(-1);
  const boundary = part.contentType.parameters.find(([name]) => name.toLowerCase() === 'boundary')?.[1]?.trimEnd();
  if (!last || boundary === undefined) return true;
  const closing = `--${boundary}--`;
  return text.toString('latin1', last.end, last.end + closing.length + 2).trimStart() !== closing;
}

function longestLine(text: Buffer): number {
  let longest = 0;
  let begun = 0;
  for (let at = 0; at < text.length; at += 1) {
    if (text[at] !== 0x0a) continue;
    longest = Math.max(longest, at - begun - (text[at - 1] === 0x0d ? 1 : 0));
    begun = at + 1;
  }
  return Math.max(longest, text.length - begun);
}
