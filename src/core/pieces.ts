/** Octets that are worked on in one turn: a few milliseconds' worth. */
const PIECE = 256 * 1024;

/** Lets everything else have a turn; resolves after it. */
export type Breathe = () => Promise<void>;

export const breathe: Breathe = () => new Promise((resolve) => setImmediate(resolve));

/** Gives `take` a large text piece by piece, with a breath between two of them. What is small goes at once. */
export async function inPieces(octets: Buffer, take: (piece: Buffer) => void, pause: Breathe = breathe): Promise<void> {
  for (let at = 0; at < octets.length || at === 0; at += PIECE) {
    if (at > 0) await pause();
    take(octets.subarray(at, at + PIECE));
  }
}
