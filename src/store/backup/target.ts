import {
  closeSync,
  existsSync,
  fsyncSync,
  mkdirSync,
  mkdtempSync,
  openSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type BackupManifest, readManifest, timeOfBackup } from '../../core/backup/manifest.ts';
import { makeFolder } from '../make-folder.ts';
import { reasonOf, StoreError } from '../open-data.ts';

/** Says whose backups lie in a folder. */
export const MARK = 'tenedor-backups.json';
export const DATABASE_COPY = 'tenedor.db';
export const MANIFEST = 'manifest.json';
export const TEXT_LIST = 'texts.list';
/** Of which pieces the database is made, in their order. */
export const PIECE_LIST = 'database.list';
/** Backups that retention took away, one a line. */
const REMOVED = 'removed.list';
/** What is being written, and what is being removed: nothing of it counts. */
const UNFINISHED = '.unfinished-';
/** Databases that are put together to be read. */
const ASSEMBLED = '.assembled-';
const DAY_MS = 24 * 3_600_000;

/** Files that backups share, each under its SHA-256, whose first two digits are a folder. */
export class SharedFiles {
  private readonly folder: string;

  constructor(
    target: string,
    readonly kind: 'texts' | 'pieces',
  ) {
    this.folder = join(target, kind);
  }

  of(name: string): string {
    return join(this.folder, name.slice(0, 2), name.slice(2));
  }

  folderOf(name: string): string {
    return join(this.folder, name.slice(0, 2));
  }

  /** Folders, by the first two digits of the names in them. */
  prefixes(): string[] {
    return existsSync(this.folder) ? readdirSync(this.folder).filter((one) => /^[0-9a-f]{2}$/.test(one)) : [];
  }

  /** The names in a folder, without those digits. */
  within(prefix: string): string[] {
    return readdirSync(join(this.folder, prefix)).filter((rest) => /^[0-9a-f]{62}$/.test(rest));
  }

  /** Takes away what was begun and never finished. */
  tidy(): void {
    for (const prefix of this.prefixes())
      for (const name of readdirSync(join(this.folder, prefix)))
        if (name.startsWith(UNFINISHED)) rmSync(join(this.folder, prefix, name), { force: true });
  }
}

/** Where backups lie: a folder for each, and what they share: message texts, and pieces of their databases. */
export class BackupTarget {
  readonly texts: SharedFiles;
  readonly pieces: SharedFiles;

  private constructor(
    readonly folder: string,
    /** Whose they are. */
    readonly host: string,
  ) {
    this.texts = new SharedFiles(folder, 'texts');
    this.pieces = new SharedFiles(folder, 'pieces');
  }

  /** Opens a folder of backups; with `host` makes one of an empty folder. Throws StoreError. */
  static open(folder: string, host: string | null): BackupTarget {
    try {
      if (host !== null) makeFolder(folder, 0o700);
      const mark = join(folder, MARK);
      if (!existsSync(mark)) {
        if (host === null) throw new StoreError(`There are no backups in ${folder}.`);
        if (readdirSync(folder).length > 0)
          throw new StoreError(`${folder} holds something else: backups need their own, initially empty directory.`);
        writeFileSync(mark, `${JSON.stringify({ format: 1, host })}\n`, { mode: 0o600 });
      }
      const said = JSON.parse(readFileSync(mark, 'utf8')) as { format?: unknown; host?: unknown };
      if (said.format !== 1) throw new StoreError(`The backups in ${folder} were made by another version of Tenedor.`);
      if (host !== null && said.host !== host)
        throw new StoreError(`The backups in ${folder} belong to ${String(said.host).slice(0, 253)}.`);
      return new BackupTarget(folder, String(said.host));
    } catch (error) {
      if (error instanceof StoreError) throw error;
      if (error instanceof SyntaxError) throw new StoreError(`${join(folder, MARK)} can’t be read.`);
      throw new StoreError(`The folder ${folder} can’t be used: ${reasonOf(error)}.`);
    }
  }

  /** Backups that retention took away and a bucket may still have. */
  removedNames(): string[] {
    try {
      return readFileSync(join(this.folder, REMOVED), 'utf8')
        .split('\n')
        .filter((name) => timeOfBackup(name) !== null);
    } catch {
      return [];
    }
  }

  /** Notes what retention takes away, before it goes. */
  noteRemoved(names: readonly string[]): void {
    this.writeRemoved([...this.removedNames(), ...names]);
  }

  /** The bucket has followed. */
  forgetRemoved(names: readonly string[]): void {
    this.writeRemoved(this.removedNames().filter((one) => !names.includes(one)));
  }

  private writeRemoved(names: readonly string[]): void {
    const file = join(this.folder, REMOVED);
    writeFileSync(`${file}.new`, names.map((one) => `${one}\n`).join(''), { mode: 0o600, flush: true });
    renameSync(`${file}.new`, file);
  }

  /** All that have the name of a backup, the newest first. */
  names(): string[] {
    return readdirSync(this.folder)
      .filter((name) => timeOfBackup(name) !== null)
      .sort((one, other) => (one < other ? 1 : -1));
  }

  /** Finished backups, the newest first. What has no manifest, or not the one that was written, is not among them. */
  list(): { name: string; manifest: BackupManifest }[] {
    return this.names().flatMap((name) => {
      const manifest = this.manifestOf(name);
      return manifest ? [{ name, manifest }] : [];
    });
  }

  manifestOf(name: string): BackupManifest | null {
    try {
      return readManifest(readFileSync(join(this.of(name), MANIFEST), 'utf8'));
    } catch {
      return null;
    }
  }

  /** The folder of a backup. */
  of(name: string): string {
    if (timeOfBackup(name) === null) throw new StoreError(`“${name.slice(0, 60)}” is not the name of a backup.`);
    return join(this.folder, name);
  }

  /** A place for a backup that is being made. */
  begin(name: string): string {
    const place = join(this.folder, UNFINISHED + name);
    rmSync(place, { recursive: true, force: true });
    mkdirSync(place, { mode: 0o700 });
    return place;
  }

  /** A place for a database that is put together to be read; elsewhere when nothing may be written here. */
  aside(): string {
    try {
      return mkdtempSync(join(this.folder, ASSEMBLED));
    } catch (error) {
      if (!['EROFS', 'EACCES', 'EPERM'].includes((error as NodeJS.ErrnoException).code ?? '')) throw error;
      return mkdtempSync(join(tmpdir(), 'tenedor-assembled-'));
    }
  }

  /** It is whole now. */
  finish(place: string, name: string): void {
    syncPath(place);
    renameSync(place, this.of(name));
    syncPath(this.folder);
  }

  /** Takes a backup away: first its name, so that half of one is never taken for a whole. */
  remove(name: string): void {
    const place = join(this.folder, `${UNFINISHED}${name}-removed`);
    rmSync(place, { recursive: true, force: true });
    renameSync(this.of(name), place);
    rmSync(place, { recursive: true, force: true });
  }

  /** Takes away what was begun and never finished. */
  tidy(): void {
    // Another process may be reading one that was put together.
    const isLeft = (name: string): boolean => name.startsWith(ASSEMBLED) && Date.now() - statSync(join(this.folder, name)).mtimeMs > DAY_MS;
    for (const name of readdirSync(this.folder))
      if (name.startsWith(UNFINISHED) || isLeft(name)) rmSync(join(this.folder, name), { recursive: true, force: true });
    this.texts.tidy();
    this.pieces.tidy();
  }
}

/** So long after its last file has changed, an unfinished backup is one that was cut off. */
const STALE_MS = 5 * 60_000;

/** Whether a backup is being made in a folder. */
export const isBeingMade = (folder: string, now: number): boolean =>
  readdirSync(folder)
    .filter((name) => name.startsWith(UNFINISHED))
    .some((name) => readdirSync(join(folder, name)).some((file) => now - statSync(join(folder, name, file)).mtimeMs < STALE_MS));

export const unfinished = (folder: string, name: string): string => join(folder, UNFINISHED + name);

/** What was written to a file, or named in a folder, is on the disk. */
export function syncPath(path: string): void {
  const open = openSync(path, 'r');
  fsyncSync(open);
  closeSync(open);
}
