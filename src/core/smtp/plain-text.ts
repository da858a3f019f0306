import { isAscii } from 'node:buffer';

/** RFC 5321 §4.5.3.1.6 */
export const LONGEST_LINE = 998;

/** Whether any server must take a text as it is: ASCII, in lines that are not too long. */
export function isPlain(content: Buffer): boolean {
  if (!isAscii(content)) return false;
  for (let from = 0; from + LONGEST_LINE < content.length; ) {
    const end = content.indexOf(10, from);
    if ((end < 0 ? content.length : end - 1) - from > LONGEST_LINE) return false;
    if (end < 0) break;
    from = end + 1;
  }
  return true;
}
