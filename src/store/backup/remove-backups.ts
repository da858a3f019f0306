import { existsSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { StoreError } from '../open-data.ts';
import { type BackupTarget, TEXT_LIST } from './target.ts';
import { listedTexts } from './text-list.ts';

/**
 * Takes away the texts that no backup lists, one folder after the other: each holds a 256th of the names. Also one whose manifest is damaged keeps its
 * texts: somebody may mend it. Throws StoreError, with nothing more taken away, when a list can't be read to its end.
 */
export function removeUnlisted(target: BackupTarget): void {
  const lists = target
    .names()
    .map((name) => join(target.of(name), TEXT_LIST))
    .filter((file) => existsSync(file))
    .map((file) => new Ahead(listedTexts(file)));
  for (const prefix of target.textFolders().sort()) {
    const needed = new Set(lists.flatMap((list) => list.of(prefix)));
    for (const rest of target.textsIn(prefix)) if (!needed.has(prefix + rest)) rmSync(target.text(prefix + rest), { force: true });
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
