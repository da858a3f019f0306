import type { FolderMessage } from '../mailbox/operations.ts';
import type { Outline } from '../mime/outline.ts';
import { transferDecoder } from '../mime/transfer-decoder.ts';
import { type Dialogue, type Ending, mailroomOf, no, type Write } from './dialogue.ts';
import type { FetchItem } from './fetch-items.ts';
import type { Mailroom } from './mailroom.ts';
import { partAt } from './sections.ts';

/** Octets of a text that are read at once. */
export const A_SLICE = 256 * 1024;
const UNKNOWN_ENCODING = no('Unknown encoding; fetch it with BODY instead', 'UNKNOWN-CTE');

/** Something long, or something that is not had: what stands before it, how to send it, and what could not be answered. */
export interface Sent {
  before: string;
  send: (write: Write) => Promise<Ending | null>;
}

/** A part of a message without its transfer encoding (RFC 3516). */
export async function binaryItem(
  dialogue: Dialogue,
  item: Extract<FetchItem, { kind: 'binary' | 'binary-size' }>,
  row: FolderMessage,
  outline: Partial<Outline>,
): Promise<string | Sent> {
  const root = outline.parts;
  const part = root && partAt(root, item.path);
  const nothing = `${item.name} ${item.kind === 'binary' ? 'NIL' : '0'}`;
  if (!part) return nothing;
  const isWhole = item.path.length === 0;
  const encoding = isWhole ? 'binary' : part.encoding;
  // RFC 3516 §4.3: what can't be decoded is refused.
  if (transferDecoder(encoding) === null) return { before: nothing, send: async () => UNKNOWN_ENCODING };
  const pieces = (): AsyncGenerator<Buffer | null> =>
    decodedPieces(mailroomOf(dialogue), row, {
      from: isWhole ? 0 : part.bodyStart,
      to: part.end,
      encoding,
      before: isWhole ? row.prefix : '',
    });
  const { from, most } = (item.kind === 'binary' ? item.partial : null) ?? { from: 0, most: Number.MAX_SAFE_INTEGER };
  // It is decoded twice, and never there whole: its length is said before it.
  let length = 0;
  let hasNul = false;
  let at = 0;
  for await (const piece of pieces()) {
    if (piece === null) return nothing;
    const some = piece.subarray(Math.max(0, from - at), Math.max(0, from + most - at));
    at += piece.length;
    length += some.length;
    hasNul ||= some.includes(0);
  }
  if (item.kind === 'binary-size') return `${item.name} ${length}`;
  return {
    before: `${item.name} ${hasNul ? '~' : ''}{${length}}\r\n`,
    send: async (write) => {
      let place = 0;
      let left = length;
      for await (const piece of pieces()) {
        if (piece === null) break;
        const some = piece.subarray(Math.max(0, from - place), Math.max(0, from + most - place)).subarray(0, left);
        place += piece.length;
        left -= some.length;
        if (some.length > 0) await write(some);
      }
      // So many octets were promised, as for a text that is lost.
      for (; left > 0; left -= Math.min(left, A_SLICE)) await write(Buffer.alloc(Math.min(left, A_SLICE), ' '));
      return null;
    },
  };
}

/** A part of a text, decoded, some at a time; null when the text is lost. */
async function* decodedPieces(
  mailroom: Mailroom,
  row: FolderMessage,
  { from, to, encoding, before }: { from: number; to: number; encoding: string; before: string },
): AsyncGenerator<Buffer | null> {
  const decoder = transferDecoder(encoding);
  if (before !== '') yield Buffer.from(before, 'latin1');
  for (let at = from; decoder && at < to; at += A_SLICE) {
    const octets = await mailroom.slice(row, at, Math.min(to, at + A_SLICE));
    if (!octets) return yield null;
    yield decoder.push(octets);
  }
  if (decoder) yield decoder.end();
}
