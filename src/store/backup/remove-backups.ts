import { existsSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { StoreError } from '../open-data.ts';
import { piecesOf } from './database-pieces.ts';
import { type BackupTarget, type SharedFiles, TEXT_LIST } from './target.ts';
import { listedTexts } from './text-list.ts';

/**
 * Takes away the texts and pieces that no backup lists, texts one folder after the other: each holds a 256th of the names. Also one whose manifest is damaged keeps its
 * texts: somebody may mend it. Throws StoreError, with nothing more taken away, when a list can't be read to its end.
 */
export function removeUnlisted(target: BackupTarget): void {
  const lists = target
    .names()
    .map((name) => join(target.of(name), TEXT_LIST))
    .filter((file) => existsSync(file))
    .map((file) => new Ahead(listedTexts(file)));
  removeOthers(target.texts, (prefix) => new Set(lists.flatMap((list) => list.of(prefix))));
  const pieces = new Set(target.names().flatMap((name) => [...piecesOf(target, name)]));
  removeOthers(target.pieces, () => pieces);
}

function removeOthers(files: SharedFiles, neededOf: (prefix: string) => ReadonlySet<string>): void {
  for (const prefix of files.prefixes().sort()) {
    const needed = neededOf(prefix);
    for (const rest of files.within(prefix)) if (!needed.has(prefix + rest)) rmSync(files.of(prefix + rest), { force: true });
  }
}

/** A list in the order of its names, of which the next ones are taken. */
class Ahead {
  private next: { name: string } | undefined;

  constructor(private readonly lines: Iterator<{ name: string } | null>) {
    this.read();
  }

  /** Those that begin like this; asked in their order. */
  of(prefix: string): string[] {
    const found: string[] = [];
    while (this.next !== undefined && this.next.name.slice(0, 2) <= prefix) {
      if (this.next.name.startsWith(prefix)) found.push(this.next.name);
      this.read();
    }
    return found;
  }

  private read(): void {
    const { value, done } = this.lines.next();
    // What it may have named is not known: then nothing is taken away.
    if (!done && value === null) throw new StoreError('The list of texts of a backup is damaged.');
    this.next = done ? undefined : (value ?? undefined);
  }
}
