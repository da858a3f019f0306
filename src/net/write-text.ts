import type { Socket } from 'node:net';
import type { MailContent } from '../core/message/mail-content.ts';
import { MultiLine } from '../core/message/multi-line.ts';
import { breathe } from '../core/pieces.ts';

/** Octets of a message that are sent in one turn. */
const TEXT_PIECE = 64 * 1024;

/**
 * Sends a text to its final dot, piece by piece as the other side takes it; `ends` is called just before the last one goes. Rejects, and leaves the
 * text without its dot, when it can't be read.
 */
export async function writeText(
  socket: Socket,
  content: MailContent,
  { isOver, ends }: { isOver: () => boolean; ends: () => void },
): Promise<void> {
  const text = new MultiLine();
  // A piece is held back, so that the dot goes with the last one.
  let last: Buffer | null = null;
  for await (const whole of content.pieces())
    for (let at = 0; at < whole.length; at += TEXT_PIECE) {
      if (isOver()) return;
      if (last !== null) {
        if (socket.write(last)) await breathe();
        else await drained(socket);
      }
      last = text.push(whole.subarray(at, at + TEXT_PIECE));
    }
  if (isOver()) return;
  ends();
  socket.write(last === null ? text.end() : Buffer.concat([last, text.end()]));
}

/** When there is room for more, or the connection is gone. */
export const drained = (socket: Socket): Promise<void> =>
  new Promise((resolve) => {
    const done = (): void => {
      socket.off('drain', done);
      socket.off('close', done);
      resolve();
    };
    socket.once('drain', done);
    socket.once('close', done);
    if (socket.destroyed) done();
  });
