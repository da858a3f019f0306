import { isUtf8 } from 'node:buffer';
import { type Breathe, breathe } from '../pieces.ts';
import { fieldsOf } from './header.ts';
import type { PlacedPart } from './outline.ts';
import { transferDecoder } from './transfer-decoder.ts';
import { decoded, decodedWords, transferDecoded } from './words.ts';

/** Letters as they are looked for: without regard to case, and composed (RFC 3501 §6.4.4, RFC 5051 in spirit). */
export const searchable = (letters: string): string => letters.normalize('NFC').toLowerCase();

/** Octets of one header or text that are read in one turn. */
export const MOST_AT_ONCE = 256 * 1024;

/** Something in a message that can be read. */
type Readable = { kind: 'header'; octets: Buffer } | { kind: 'text'; octets: Buffer; encoding: string; charset: string | null };

/** All that can be read in a message: its text parts, and with `inHeader` its headers; each by itself, in the order of the text. */
function* readablesOf(octets: Buffer, part: PlacedPart | undefined, inHeader: boolean): Generator<Readable> {
  if (!part) return;
  if (inHeader) yield { kind: 'header', octets: octets.subarray(part.start, part.bodyStart) };
  if (part.message) yield* readablesOf(octets, part.message, true);
  else if (part.children.length > 0) for (const one of part.children) yield* readablesOf(octets, one, inHeader);
  else if (part.type.startsWith('text/'))
    yield { kind: 'text', octets: octets.subarray(part.bodyStart, part.end), encoding: part.encoding, charset: part.charset };
}

const headerLetters = (octets: Buffer): string => decodedWords(octets.toString('latin1').replace(/\r?\n(?=[ \t])/g, ''));
function lettersOf(one: Readable): string {
  if (one.kind === 'header') return headerLetters(one.octets);
  const plain = transferDecoded(one.octets, one.encoding);
  return plain === null ? '' : decoded(plain, one.charset);
}

/** The letters of all that can be read in a message, its headers included; null when one of them is too long to be read at once. */
export function allLetters(octets: Buffer, part: PlacedPart): string[] | null {
  const all: string[] = [];
  for (const one of readablesOf(octets, part, true)) {
    if (one.octets.length > MOST_AT_ONCE) return null;
    all.push(lettersOf(one));
  }
  return all;
}

/** Whether something that is looked for can be read in a message, with `inHeader` in its headers too. What is long is looked through in pieces. */
export async function canBeRead(
  what: string,
  { octets, part, inHeader }: { octets: Buffer; part: PlacedPart | undefined; inHeader: boolean },
  pause: Breathe = breathe,
): Promise<boolean> {
  for (const one of readablesOf(octets, part, inHeader)) {
    const pieces = one.octets.length <= MOST_AT_ONCE ? [lettersOf(one)] : letterPieces(one, pause);
    // A letter that is composed may have been several (RFC 5198 §3).
    const overlap = 4 * what.length + 16;
    let before = '';
    for await (const letters of pieces) {
      const some = before + letters;
      if (searchable(some).includes(what)) return true;
      before = some.slice(-overlap);
    }
  }
  return false;
}

/** The letters of something long, with a breath between two pieces. */
async function* letterPieces(one: Readable, pause: Breathe): AsyncGenerator<string> {
  if (one.kind === 'header') {
    for (const piece of headerPieces(one.octets)) {
      yield headerLetters(piece);
      await pause();
    }
    return;
  }
  const plain: Buffer[] = [];
  const transfer = transferDecoder(one.encoding);
  if (!transfer) return;
  for (let at = 0; at < one.octets.length; at += MOST_AT_ONCE) {
    plain.push(transfer.push(one.octets.subarray(at, at + MOST_AT_ONCE)));
    await pause();
  }
  plain.push(transfer.end());
  const all = Buffer.concat(plain);
  await pause();
  const decoder = decoderOf(all, one.charset);
  for (let at = 0; at < all.length; at += MOST_AT_ONCE) {
    yield decoder.decode(all.subarray(at, at + MOST_AT_ONCE), { stream: true });
    await pause();
  }
  yield decoder.decode();
}

/** As `decoded` chooses. */
function decoderOf(octets: Buffer, charset: string | null): TextDecoder {
  const name = (charset ?? 'utf-8').trim().toLowerCase();
  if (!['us-ascii', 'utf-8', 'utf8', 'unknown-8bit'].includes(name)) {
    try {
      return new TextDecoder(name);
    } catch {
      // Not a charset that anybody knows.
    }
  }
  return new TextDecoder(isUtf8(octets) ? 'utf-8' : 'windows-1252');
}

/** Pieces of a header that end where a field does; what is longer than a piece is cut. */
function* headerPieces(octets: Buffer): Generator<Buffer> {
  for (let from = 0, end = 0; from < octets.length; from = end) {
    end = Math.min(from + MOST_AT_ONCE, octets.length);
    for (let at = end; end < octets.length; ) {
      at = octets.lastIndexOf(0x0a, at - 1);
      if (at <= from) break;
      if (octets[at + 1] === 0x20 || octets[at + 1] === 0x09) continue;
      end = at + 1;
      break;
    }
    yield octets.subarray(from, end);
  }
}

/** What the fields of that name say, in letters. `header` is kept one to one as latin1. */
export function fieldLetters(header: string, name: string): string[] {
  const octets = Buffer.from(header, 'latin1');
  return fieldsOf(octets, 0, octets.length)
    .filter((field) => field.name === name)
    .map((field) => decodedWords(field.value));
}
