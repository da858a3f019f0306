import { createHash } from 'node:crypto';
import {
  closeSync,
  createReadStream,
  createWriteStream,
  existsSync,
  fsyncSync,
  mkdtempSync,
  openSync,
  readdirSync,
  renameSync,
  rmdirSync,
  rmSync,
  statSync,
  unlinkSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { basename, dirname, join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import { createGzip } from 'node:zlib';
import { pack } from 'tar-stream';
import { syncPath } from '../backup/target.ts';
import { makeFolder } from '../make-folder.ts';
import { StoreError } from '../open-data.ts';

/** A file that is being written; its checksum comes with its end. */
export interface ExportFile {
  write(some: Buffer | string): void;
  end(): Promise<void>;
}

/** Where the files of an export go: a folder, or one archive. Nothing has its name before all is written. */
export interface ExportFiles {
  file(path: string): ExportFile;
  /** `SHA-256  path` of each file so far, as checksum tools read it. */
  checksums(): string;
  finish(): Promise<void>;
  /** Takes away what was written. */
  drop(): void;
}

const UNFINISHED = '.unfinished-';
/** Says that a folder is the work of an export. */
const MARK = '.tenedor-export';

class Written implements ExportFile {
  private readonly hash = createHash('sha256');
  private readonly open: number;

  constructor(
    place: string,
    private readonly onEnd: (sha256: string) => Promise<void> | void,
  ) {
    makeFolder(dirname(place), 0o700);
    this.open = openSync(place, 'wx', 0o600);
  }

  write(some: Buffer | string): void {
    const octets = typeof some === 'string' ? Buffer.from(some) : some;
    this.hash.update(octets);
    for (let at = 0; at < octets.length; ) at += writeSync(this.open, octets, at);
  }

  async end(): Promise<void> {
    fsyncSync(this.open);
    closeSync(this.open);
    await this.onEnd(this.hash.digest('hex'));
  }
}

/** A folder to work in, beside the place that an export is to have. What an export that was killed has left of its own is taken away; nobody else's is touched. */
function workFolder(path: string): string {
  const folder = dirname(path);
  const begin = basename(path) + UNFINISHED;
  for (const name of readdirSync(folder))
    if (name.startsWith(begin) && existsSync(join(folder, name, MARK))) rmSync(join(folder, name), { recursive: true, force: true });
  const place = mkdtempSync(join(folder, begin));
  writeFileSync(join(place, MARK), '', { mode: 0o600 });
  return place;
}

/** Files in a folder. */
export class FolderExport implements ExportFiles {
  private readonly place: string;
  private sums = '';

  constructor(private readonly path: string) {
    this.place = workFolder(path);
  }

  file(path: string): ExportFile {
    return new Written(join(this.place, path), (sha256) => {
      this.sums += `${sha256}  ${path}\n`;
    });
  }

  checksums(): string {
    return this.sums;
  }

  async finish(): Promise<void> {
    rmSync(join(this.place, MARK));
    syncPath(this.place);
    // It was empty when it was asked for, and stays what it is if it is not any more.
    if (existsSync(this.path)) rmdirSync(this.path);
    renameSync(this.place, this.path);
    syncPath(dirname(this.path));
  }

  drop(): void {
    rmSync(this.place, { recursive: true, force: true });
  }
}

/** Files in a tar archive, compressed where its name says so. Each is put aside first, since an archive wants to know its length beforehand. */
export class ArchiveExport implements ExportFiles {
  private readonly work: string;
  private readonly place: string;
  private files = 0;
  private readonly archive = pack();
  private readonly over: Promise<void>;
  private sums = '';

  constructor(
    private readonly path: string,
    private readonly at: number,
  ) {
    this.work = workFolder(path);
    this.place = join(this.work, 'archive');
    const file = createWriteStream(this.place, { mode: 0o600 });
    this.over = /\.t?gz$/i.test(path) ? pipeline(this.archive, createGzip(), file) : pipeline(this.archive, file);
    // Whoever waits for it is told; until then nobody may be without.
    this.over.catch(() => {});
  }

  file(path: string): ExportFile {
    this.files += 1;
    const aside = join(this.work, `part-${this.files}`);
    return new Written(aside, async (sha256) => {
      this.sums += `${sha256}  ${path}\n`;
      const entry = this.archive.entry({ name: path, size: statSync(aside).size, mode: 0o600, mtime: new Date(this.at) });
      await Promise.race([pipeline(createReadStream(aside), entry), this.over.then(() => new Promise<void>(() => {}))]);
      unlinkSync(aside);
    });
  }

  checksums(): string {
    return this.sums;
  }

  async finish(): Promise<void> {
    this.archive.finalize();
    await this.over;
    const open = openSync(this.place, 'r');
    fsyncSync(open);
    closeSync(open);
    if (existsSync(this.path)) throw new StoreError(`${this.path} was created in the meantime.`);
    renameSync(this.place, this.path);
    syncPath(dirname(this.path));
    rmSync(this.work, { recursive: true, force: true });
  }

  drop(): void {
    this.archive.destroy();
    rmSync(this.work, { recursive: true, force: true });
  }
}
