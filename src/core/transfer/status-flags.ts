import { ANSWERED, DELETED, DRAFT, FLAGGED, SEEN } from '../mailbox/flags.ts';
import { fieldsOf, firstField } from '../mime/header.ts';

const BY_LETTER: Record<string, number> = { R: SEEN, A: ANSWERED, F: FLAGGED, D: DELETED, T: DRAFT };
/** So much of a text is looked at for its header. */
const MOST_HEADER = 64 * 1024;

/** The flags that programs note in the fields Status and X-Status of a message in an mbox. */
export function statusFlags(text: Buffer): number {
  const fields = fieldsOf(text, 0, Math.min(text.length, MOST_HEADER));
  const letters = `${firstField(fields, 'status') ?? ''}${firstField(fields, 'x-status') ?? ''}`.slice(0, 20);
  return [...letters].reduce((flags, letter) => flags | (BY_LETTER[letter] ?? 0), 0);
}
