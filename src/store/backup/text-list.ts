import { closeSync, openSync, readSync } from 'node:fs';

const PIECE = 256 * 1024;

/** The texts of a list, one by one: their names and sizes. What is no line of a list is told as null. */
export function* listedTexts(file: string): Generator<{ name: string; size: number } | null> {
  const open = openSync(file, 'r');
  try {
    const piece = Buffer.allocUnsafe(PIECE);
    let rest = '';
    for (;;) {
      const read = readSync(open, piece, 0, PIECE, null);
      if (read === 0) break;
      const lines = (rest + piece.toString('latin1', 0, read)).split('\n');
      rest = lines.pop() ?? '';
      for (const line of lines) yield lineOf(line);
    }
    if (rest !== '') yield null;
  } finally {
    closeSync(open);
  }
}

function lineOf(line: string): { name: string; size: number } | null {
  const [, name = '', size = ''] = /^([0-9a-f]{64}) (\d{1,15})$/.exec(line) ?? [];
  return name === '' ? null : { name, size: Number(size) };
}
