import { copyFileSync, linkSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { makeFolder } from '../make-folder.ts';
import { digestOf } from './digests.ts';
import { placesOf } from './needed-texts.ts';
import type { Pace } from './pace.ts';
import { type BackupTarget, type SharedFiles, syncPath, unfinished } from './target.ts';

/** So many backups compare all that is there: what is damaged at equal size is found and written anew. */
const COMPARED_WITHIN = 8;
const DAY_MS = 24 * 3_600_000;

/** Puts what a backup needs among the files that backups share, where it is not there yet. */
export class SharedWriter {
  private readonly folders = new Set<string>();
  private readonly touched = new Set<string>();
  /** Whether links have not been refused there. */
  private isLinked = true;

  constructor(
    private readonly data: string,
    private readonly target: BackupTarget,
    /** When the backup is made, in ms. */
    private readonly at: number,
    private readonly pace: Pace,
  ) {}

  /** A text: a link where both are on one file system, else a copy; null for one that is gone. */
  putText(name: string): { size: number; isNew: boolean } | null {
    const { texts } = this.target;
    const places = placesOf(this.data, name);
    // It may be on its way from one to the other.
    for (const source of [...places, ...places]) {
      try {
        const { size } = statSync(source);
        if (this.isThere(texts, name, size)) return { size, isNew: false };
        if (!this.isLinked || !this.link(source, texts.of(name))) {
          const temporary = unfinished(texts.folderOf(name), name);
          copyFileSync(source, temporary);
          if (digestOf(temporary).sha256 !== name) {
            rmSync(temporary);
            return null;
          }
          this.name(temporary, texts.of(name), size);
        }
        return { size, isNew: true };
      } catch (error) {
        if ((error as NodeJS.ErrnoException).code !== 'ENOENT') throw error;
      }
    }
    return null;
  }

  /** A piece of the database. Returns whether it is new. */
  putPiece(name: string, octets: Buffer): boolean {
    const { pieces } = this.target;
    if (this.isThere(pieces, name, octets.length)) return false;
    const temporary = unfinished(pieces.folderOf(name), name);
    writeFileSync(temporary, octets, { mode: 0o600 });
    this.name(temporary, pieces.of(name), octets.length);
    return true;
  }

  /** All that was put there is on the disk. */
  flush(): void {
    for (const folder of this.touched) syncPath(folder);
    this.touched.clear();
  }

  /** Whether it is there; where it is not, its place is made ready. */
  private isThere(files: SharedFiles, name: string, size: number): boolean {
    const to = files.of(name);
    const there = statSync(to, { throwIfNoEntry: false });
    if (there?.size === size && (!this.isCompared(name) || digestOf(to, (octets) => this.pace.spent(octets)).sha256 === name)) return true;
    const folder = files.folderOf(name);
    if (!this.folders.has(folder)) makeFolder(folder, 0o700);
    this.folders.add(folder);
    this.touched.add(folder);
    if (there) rmSync(to, { force: true });
    return false;
  }

  /** Whether one that is there is compared with its name this time. */
  private isCompared(name: string): boolean {
    return (Number.parseInt(name.slice(0, 2), 16) + Math.floor(this.at / DAY_MS)) % COMPARED_WITHIN === 0;
  }

  private name(temporary: string, to: string, size: number): void {
    syncPath(temporary);
    renameSync(temporary, to);
    this.pace.spent(size);
  }

  /** Whether a link could be made; a text that has too many of them says nothing of the next one. */
  private link(source: string, to: string): boolean {
    try {
      linkSync(source, to);
      return true;
    } catch (error) {
      const code = (error as NodeJS.ErrnoException).code ?? '';
      if (!['EXDEV', 'EPERM', 'ENOTSUP', 'EMLINK', 'EOPNOTSUPP'].includes(code)) throw error;
      if (code !== 'EMLINK') this.isLinked = false;
      return false;
    }
  }
}
