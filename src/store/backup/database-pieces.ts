import { createHash } from 'node:crypto';
import { closeSync, copyFileSync, existsSync, openSync, readFileSync, readSync, rmSync, writeFileSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { StoreError } from '../open-data.ts';
import type { SharedWriter } from './shared-writer.ts';
import { type BackupTarget, DATABASE_COPY, PIECE_LIST } from './target.ts';
import { listedTexts } from './text-list.ts';

/** Octets of a piece, but for the last one. A database changes here and there: the smaller its pieces, the fewer of them differ. */
const PIECE = 256 * 1024;

/** Takes a database apart into pieces that backups share, and lists them. Returns its size and digest, and how much of it is new, in octets. */
export function cutDatabase(file: string, list: string, writer: SharedWriter): { size: number; sha256: string; newOctets: number } {
  const open = openSync(file, 'r');
  try {
    const piece = Buffer.allocUnsafe(PIECE);
    const whole = createHash('sha256');
    const lines: string[] = [];
    let [size, newOctets] = [0, 0];
    for (;;) {
      const octets = piece.subarray(0, readSync(open, piece, 0, PIECE, size));
      if (octets.length === 0) break;
      size += octets.length;
      whole.update(octets);
      const name = createHash('sha256').update(octets).digest('hex');
      if (writer.putPiece(name, octets)) newOctets += octets.length;
      lines.push(`${name} ${octets.length}\n`);
    }
    writeFileSync(list, lines.join(''), { mode: 0o600, flag: 'wx', flush: true });
    return { size, sha256: whole.digest('hex'), newOctets };
  } finally {
    closeSync(open);
  }
}

/** Of which pieces the database of a backup is made; none where it lies there whole. Throws StoreError when that can't be read to its end. */
export function* piecesOf(target: BackupTarget, name: string): Generator<string> {
  const list = join(target.of(name), PIECE_LIST);
  if (!existsSync(list)) return;
  for (const one of listedTexts(list)) {
    if (!one) throw new StoreError(`The list of pieces of the database of ${name} is damaged.`);
    yield one.name;
  }
}

/** Reads the database of a backup: where it lies, or put together beside. */
export function withDatabase<Result>(target: BackupTarget, name: string, read: (file: string) => Result): Result {
  const whole = join(target.of(name), DATABASE_COPY);
  if (existsSync(whole)) return read(whole);
  const aside = target.aside();
  try {
    const file = join(aside, DATABASE_COPY);
    assembleDatabase(target, name, file);
    return read(file);
  } finally {
    rmSync(aside, { recursive: true, force: true });
  }
}

/** Puts the database of a backup together in a file that is not there yet. That it is what was written is proven by its digest. Throws StoreError. */
export function assembleDatabase(target: BackupTarget, name: string, to: string, onPiece: (octets: number) => void = () => {}): void {
  const place = target.of(name);
  // As version 0.1.0 wrote it.
  if (existsSync(join(place, DATABASE_COPY))) return copyFileSync(join(place, DATABASE_COPY), to);
  const open = openSync(to, 'wx', 0o600);
  try {
    for (const piece of piecesOf(target, name)) {
      const octets = readFileSync(target.pieces.of(piece));
      for (let rest = octets; rest.length > 0; ) rest = rest.subarray(writeSync(open, rest));
      onPiece(octets.length);
    }
  } finally {
    closeSync(open);
  }
}
