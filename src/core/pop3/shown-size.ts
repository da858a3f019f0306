import { SHOWN_AT_ONCE, shownHeader } from './shown-header.ts';

/** Octets that POP3 sends of a text more than it has (RFC 1939 §11), by how it is shown: to who takes letters beyond ASCII, to others, and both as junk. */
export interface ShownMore {
  plain: number;
  ascii: number;
  plainJunk: number;
  asciiJunk: number;
}

/** Octets that are looked at in one step. */
const A_STEP = 1024 * 1024;
const CR = 0x0d;
const LF = 0x0a;

export const shownAs = (isUtf8: boolean, isJunk: boolean): keyof ShownMore =>
  isJunk ? (isUtf8 ? 'plainJunk' : 'asciiJunk') : isUtf8 ? 'plain' : 'ascii';

/** Counts them, in linear time and small steps: what changes in the header, line ends that are mended, and the end of a last line that has none. */
export function* shownMoreInSteps(text: Buffer): Generator<void, ShownMore> {
  const first = text.subarray(0, SHOWN_AT_ONCE);
  let mendedBehind = 0;
  for (let at = SHOWN_AT_ONCE; at < text.length; at += A_STEP) {
    // Whether the first octet behind the header's piece ends a line by itself depends on how that piece is shown.
    mendedBehind += loneLineEnds(text.subarray(at, at + A_STEP), at === SHOWN_AT_ONCE ? CR : text[at - 1]);
    yield;
  }
  const known = new Map<Buffer, number>();
  const more = (isUtf8: boolean, isJunk: boolean): number => {
    const shown = shownHeader(first, { isUtf8, isJunk });
    const counted = known.get(shown);
    if (counted !== undefined) return counted;
    const last = text.length > SHOWN_AT_ONCE ? text.at(-1) : shown.at(-1);
    const count =
      shown.length -
      first.length +
      loneLineEnds(shown, 0) +
      (text[SHOWN_AT_ONCE] === LF && shown.at(-1) !== CR ? 1 : 0) +
      mendedBehind +
      (last === undefined || last === LF ? 0 : 2);
    known.set(shown, count);
    return count;
  };
  const plain = more(true, false);
  yield;
  const ascii = more(false, false);
  yield;
  const plainJunk = more(true, true);
  yield;
  return { plain, ascii, plainJunk, asciiJunk: more(false, true) };
}

function loneLineEnds(octets: Buffer, before: number | undefined): number {
  let count = 0;
  for (let at = octets.indexOf(LF); at >= 0; at = octets.indexOf(LF, at + 1)) if ((at === 0 ? before : octets[at - 1]) !== CR) count += 1;
  return count;
}
