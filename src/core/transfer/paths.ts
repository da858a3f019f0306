import { createHash } from 'node:crypto';
import { SEPARATOR } from '../mailbox/folder-names.ts';

/** Octets of one name on most file systems, with room for an ending. */
const LONGEST = 200;

/** A name from outside as one that is safe on every file system: nothing of it leads elsewhere. Two names never become one. */
export function safeName(name: string): string {
  const safe = name
    .replace(/[^\p{L}\p{N}\p{M} @._+=,-]/gu, encoded)
    .replace(/^[. ]/, encoded)
    .replace(/[. ]$/, encoded)
    // The endings of what lies beside folders.
    .replace(/\.(mbox|eml|csv|json|txt)$/i, (ending) => `%2E${ending.slice(1)}`);
  if (Buffer.byteLength(safe) <= LONGEST) return safe;
  return `${[...safe].slice(0, 40).join('')}%${createHash('sha256').update(name).digest('hex').slice(0, 16)}`;
}

const encoded = (letter: string): string =>
  [...Buffer.from(letter)].map((octet) => `%${octet.toString(16).toUpperCase().padStart(2, '0')}`).join('');

/** Where a folder's messages lie. */
export const folderPath = (folder: string): string => folder.split(SEPARATOR).map(safeName).join('/');
