import { createHash } from 'node:crypto';
import { closeSync, openSync, readSync } from 'node:fs';

const PIECE = 1024 * 1024;

/** One for all files, since each is read in one go: a new one for each of many small files costs more than reading them. */
const piece = Buffer.allocUnsafeSlow(PIECE);

/** The SHA-256 and the size of a file, read piece by piece. */
export function digestOf(file: string, onPiece: (octets: number) => void = () => {}): { sha256: string; size: number } {
  const open = openSync(file, 'r');
  try {
    const hash = createHash('sha256');
    let size = 0;
    for (;;) {
      const read = readSync(open, piece, 0, PIECE, null);
      if (read === 0) return { sha256: hash.digest('hex'), size };
      hash.update(piece.subarray(0, read));
      size += read;
      onPiece(read);
    }
  } finally {
    closeSync(open);
  }
}
