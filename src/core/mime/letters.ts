import { fieldsOf } from './header.ts';
import type { PlacedPart } from './outline.ts';
import { decoded, decodedWords, transferDecoded } from './words.ts';

/** Letters as they are looked for: without regard to case, and composed (RFC 3501 §6.4.4, RFC 5051 in spirit). */
export const searchable = (letters: string): string => letters.normalize('NFC').toLowerCase();

/** All that can be read in a message: its text parts, decoded, and with `inHeader` its headers; each by itself, in the order of the text. */
export function* lettersOf(octets: Buffer, part: PlacedPart | undefined, inHeader: boolean): Generator<string> {
  if (!part) return;
  if (inHeader) yield decodedWords(octets.toString('latin1', part.start, part.bodyStart).replace(/\r?\n(?=[ \t])/g, ''));
  if (part.message) yield* lettersOf(octets, part.message, true);
  else if (part.children.length > 0) for (const one of part.children) yield* lettersOf(octets, one, inHeader);
  else if (part.type.startsWith('text/')) {
    const plain = transferDecoded(octets.subarray(part.bodyStart, part.end), part.encoding);
    if (plain !== null) yield decoded(plain, part.charset);
  }
}

/** What the fields of that name say, in letters. `header` is kept one to one as latin1. */
export function fieldLetters(header: string, name: string): string[] {
  const octets = Buffer.from(header, 'latin1');
  return fieldsOf(octets, 0, octets.length)
    .filter((field) => field.name === name)
    .map((field) => decodedWords(field.value));
}
