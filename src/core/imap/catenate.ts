import type { Range } from '../mailbox/uid-set.ts';
import { type Dialogue, type Ending, mailroomOf, no } from './dialogue.ts';
import { readFolderName } from './names.ts';
import { chosenFields, placeOf, readSection, type Section } from './sections.ts';
import { SyntaxFault, Tokens } from './tokens.ts';

/** One piece of a message that is put together (RFC 4469): a text that came, or where it lies already. */
export type CatPart = { kind: 'text'; text: Buffer } | { kind: 'url'; url: string };

const MOST_PARTS = 1000;
const WHOLE: Section = { path: [], what: 'all', fields: [] };

/** `(TEXT {5} URL "/INBOX/;UID=3/;SECTION=1")`, after CATENATE. */
export function readCatenate(tokens: Tokens): CatPart[] {
  const parts = tokens.list((): CatPart => {
    const kind = tokens.word();
    tokens.space();
    if (kind === 'URL') return { kind: 'url', url: tokens.astringText() };
    const text = kind === 'TEXT' ? tokens.literal() : null;
    if (!text) throw new SyntaxFault('CATENATE takes TEXT with a literal, and URL');
    return { kind: 'text', text };
  });
  if (parts.length > MOST_PARTS) throw new SyntaxFault('Too many parts to catenate');
  return parts;
}

/** A part of a message, by an address (RFC 5092 §11). */
interface Located {
  /** Null for the folder that is selected. */
  folder: string | null;
  uidValidity: number | null;
  uid: number;
  section: Section;
  partial: Range | null;
}

/** Reads an address of a part of a message on this server; null for one that is none. */
export function readUrl(url: string, hostName: string): Located | null {
  const found =
    /^(?:imap:\/\/(?:[^@/]*@)?([^/:]+)(?::\d+)?(?=\/))?(?:\/([^;]+?)(?:;UIDVALIDITY=(\d{1,10}))?\/)?\/?;UID=(\d{1,10})(?:\/;SECTION=([^;/]+(?:\/(?!;)[^;/]*)*))?(?:\/;PARTIAL=(\d{1,10})(?:\.(\d{1,10}))?)?$/i.exec(
      url,
    );
  if (!found) return null;
  const [, host, folder, uidValidity, uid, section, from, length] = found;
  if (host !== undefined && (host.toLowerCase() !== hostName || folder === undefined)) return null;
  try {
    const name = folder === undefined ? null : readFolderName(Buffer.from(decodeURIComponent(folder)), true);
    if (folder !== undefined && name === null) return null;
    return {
      folder: name,
      uidValidity: uidValidity === undefined ? null : Number(uidValidity),
      uid: Number(uid),
      section: section === undefined ? WHOLE : readSection(new Tokens([`[${decodeURIComponent(section)}]`])).section,
      partial: from === undefined ? null : [Number(from), Number(from) + (length === undefined ? Number.MAX_SAFE_INTEGER : Number(length))],
    };
  } catch (error) {
    if (error instanceof SyntaxFault || error instanceof URIError) return null;
    throw error;
  }
}

/** Puts a message together, or says why not: all of it, or nothing. */
export async function catenated(dialogue: Dialogue, parts: readonly CatPart[]): Promise<Buffer | Ending> {
  const { maxMessageBytes, hostName } = dialogue.settings;
  const pieces: Buffer[] = [];
  let length = 0;
  for (const part of parts) {
    const octets = part.kind === 'text' ? part.text : await located(dialogue, readUrl(part.url, hostName), maxMessageBytes - length);
    if (octets === null) return no('No such URL', `BADURL "${part.kind === 'url' ? safe(part.url) : ''}"`);
    if (octets === 'too-big' || length + octets.length > maxMessageBytes) return no('The message would be too large', 'TOOBIG');
    // What it holds counts like what somebody sends.
    if (!dialogue.mayHold(length + octets.length)) return no('The server is receiving too much right now; try again soon', 'UNAVAILABLE');
    pieces.push(octets);
    length += octets.length;
  }
  return Buffer.concat(pieces);
}

async function located(dialogue: Dialogue, place: Located | null, room: number): Promise<Buffer | 'too-big' | null> {
  if (!place) return null;
  const mailroom = mailroomOf(dialogue);
  const folder = place.folder === null ? dialogue.view?.folder : mailroom.folders().find((one) => one.name === place.folder);
  if (!folder?.rights.includes('r') || (place.uidValidity !== null && place.uidValidity !== folder.uidValidity)) return null;
  const [row] = mailroom.messagesOf(folder.id, [place.uid]);
  const root = row && (await mailroom.outlines([row], ['parts'])).get(row.file)?.parts;
  const where = root && placeOf(root, place.section);
  if (!row || !where) return null;
  const prefix = Buffer.from(where.isWhole ? row.prefix : '', 'latin1');
  const isOfHeader = place.section.what === 'fields' || place.section.what === 'other-fields';
  const [from, to] = place.partial ?? [0, Number.MAX_SAFE_INTEGER];
  if (Math.min(to, prefix.length + where.to - where.from) - from > room) return 'too-big';
  const octets = await mailroom.slice(row, where.from, where.to);
  if (!octets) return null;
  const whole = Buffer.concat([prefix, octets]);
  return (isOfHeader ? Buffer.from(chosenFields(whole, place.section), 'latin1') : whole).subarray(from, to);
}

/** In a response code, between quotes. */
const safe = (url: string): string =>
  url
    .replace(/[^\x21-\x7e]/g, '?')
    .replace(/["\\\]]/g, '?')
    .slice(0, 500);
