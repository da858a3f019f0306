import { allLetters, fieldLetters, searchable } from '../mime/letters.ts';
import type { Outline } from '../mime/outline.ts';
import { decodedWords } from '../mime/words.ts';

/** Fields in which letters are looked for so often that an index of a folder has them. */
export const INDEXED_FIELDS = ['subject', 'from', 'to', 'cc', 'bcc', 'message-id'] as const;
export type IndexedField = (typeof INDEXED_FIELDS)[number];
export const isIndexedField = (name: string): name is IndexedField => (INDEXED_FIELDS as readonly string[]).includes(name);

/** A folder with fewer messages is looked through faster than it is indexed. */
export const LEAST_INDEXED = 500;

/** So many letters of a message are indexed; a longer one is looked at by every search of its text. */
const MOST_LETTERS = 256 * 1024;

/** What the index of a folder has of a message: letters as they are looked for. */
export interface IndexedMessage {
  uid: number;
  fields: Record<IndexedField, string>;
  /** All that can be read in it; empty where texts are not indexed. */
  text: string;
  /** Whether there is more to read than is indexed. */
  isCut: boolean;
}

/** What messages must hold that a search may find; the rest is decided by looking at them. */
export type Wanted =
  | { kind: 'and' | 'or'; all: Wanted[] }
  | { kind: 'field'; field: IndexedField; letters: string }
  | { kind: 'text'; letters: string };

/** Makes a message's entry. Without `octets` its text is not indexed. `prefix` stands before the text in this mailbox. */
export function indexedMessage(
  { uid, prefix }: { uid: number; prefix: string },
  { header, parts }: Pick<Outline, 'header' | 'parts'>,
  octets: Buffer | null,
): IndexedMessage {
  const fields = Object.fromEntries(
    INDEXED_FIELDS.map((name) => [name, searchable(fieldLetters(prefix + header, name).join('\n'))]),
  ) as Record<IndexedField, string>;
  if (!octets) return { uid, fields, text: '', isCut: false };
  // The same as a search without an index looks at.
  const pieces = [searchable(decodedWords(prefix + header))];
  let length = pieces[0]?.length ?? 0;
  const all = allLetters(octets, parts);
  if (!all) return { uid, fields, text: '', isCut: true };
  for (const one of all) {
    if (length + one.length > MOST_LETTERS) return { uid, fields, text: '', isCut: true };
    pieces.push(searchable(one));
    length += one.length;
  }
  return { uid, fields, text: pieces.join('\n'), isCut: false };
}
