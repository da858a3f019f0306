import { createHash, randomBytes, webcrypto } from 'node:crypto';
import {
  close,
  existsSync,
  fdatasync,
  fstat,
  fsync,
  mkdirSync,
  open,
  openSync,
  read,
  readdir,
  readdirSync,
  readFile,
  rename,
  stat,
  unlinkSync,
  write,
} from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { FileWriter } from './file-writer.ts';
import { makeFolder } from './make-folder.ts';
import { reasonOf, StoreError, startStep } from './open-data.ts';

const openFile = promisify(open);
const closeFile = promisify(close);
const renameFile = promisify(rename);
const statFile = promisify(stat);
const writeTo = promisify(write);
const syncData = promisify(fdatasync);
const syncAll = promisify(fsync);

const statHandle = promisify(fstat);
const readFrom = promisify(read);

const listFolder = (path: string) => promisify(readdir)(path, { withFileTypes: true });
const readWhole = promisify(readFile);

const UNFINISHED = 'unfinished-';
const HALF_WRITTEN = new RegExp(`^${UNFINISHED}[0-9a-f]{24}$`);
const NAME = /^[0-9a-f]{64}$/;
const SWEPT_AT_ONCE = 100;
const OBSTACLES = ['EEXIST', 'ENOTDIR'];
const startFault = (folder: string, error: unknown): StoreError =>
  new StoreError(`The folder ${folder} can’t be used: ${reasonOf(error)}.`);
const PIECE = 64 * 1024;
/** What is larger is hashed off the main thread. */
const HASHED_HERE = 256 * 1024;

/** The name of a text: its SHA-256. */
async function nameOf(content: Buffer): Promise<string> {
  if (content.length <= HASHED_HERE) return createHash('sha256').update(content).digest('hex');
  return Buffer.from(await webcrypto.subtle.digest('SHA-256', content)).toString('hex');
}

/** A message's text that should be there and is gone, or not whole. */
export class TextLost extends Error {
  constructor(
    readonly text: string,
    readonly how: 'gone' | 'cut short',
  ) {
    super(`the text ${text.slice(0, 12)}… is ${how}`);
  }
}

/**
 * Message texts as files named by the SHA-256 of their content, written once and shared by all who refer to them.
 * New ones lie in the folder `recent`, so that one fsync of that folder serves everybody who is writing at the moment;
 * the sweep moves them into a folder by the first two digits of their name.
 */
export class MessageFiles {
  private readonly folder: string;
  private readonly recent: string;
  /** Written or about to be, and perhaps not yet referred to by the database: the sweep leaves them alone. */
  private readonly held = new Map<string, number>();
  private readonly recentSync: FolderSync;
  private readonly writer: FileWriter;

  constructor(directory: string) {
    this.folder = join(directory, 'messages');
    this.recent = join(this.folder, 'recent');
    this.writer = new FileWriter({ folder: this.recent, unfinished: UNFINISHED });
    startStep(`The folder ${this.recent}`, () => makeFolder(this.recent, 0o700));
    for (let at = 0; at < 256; at += 1) {
      try {
        mkdirSync(join(this.folder, at.toString(16).padStart(2, '0')), { recursive: true, mode: 0o700 });
      } catch (error) {
        // Something else stands there: what would go there stays where it is.
        if (!OBSTACLES.includes((error as NodeJS.ErrnoException).code ?? '')) throw startFault(this.folder, error);
      }
    }
    // What a crash left half written was never acknowledged. What is strange is left alone.
    for (const one of startStep(`The folder ${this.recent}`, () => readdirSync(this.recent, { withFileTypes: true })))
      if (one.isFile() && HALF_WRITTEN.test(one.name))
        startStep(`The folder ${this.recent}`, () => unlinkSync(join(this.recent, one.name)));
    this.recentSync = new FolderSync(startStep(`The folder ${this.recent}`, () => openSync(this.recent, 'r')));
  }

  /** Stores a text durably and returns its name. Call `release` when the database refers to it (or never will). */
  async write(content: Buffer): Promise<string> {
    const name = await nameOf(content);
    this.held.set(name, (this.held.get(name) ?? 0) + 1);
    try {
      if (await this.isWhole(name, content.length)) return name;
      const temporary = join(this.recent, `${UNFINISHED}${randomBytes(12).toString('hex')}`);
      // Even creating and renaming wait while the file system commits; nothing of it runs on the main thread.
      const file = await openFile(temporary, 'wx', 0o600);
      try {
        for (let at = 0; at < content.length; ) at += (await writeTo(file, content, at)).bytesWritten;
        await syncData(file);
      } finally {
        await closeFile(file);
      }
      await renameFile(temporary, join(this.recent, name));
      await this.recentSync.request();
      return name;
    } catch (error) {
      this.release(name);
      throw error;
    }
  }

  /** Stores small texts durably, by the names that they have. Whatever is told as written is to be released, as after `write`. */
  async writeAll(texts: readonly { name: string; content: Buffer }[]): Promise<{ names: string[]; fault: string | null }> {
    for (const { name } of texts) this.held.set(name, (this.held.get(name) ?? 0) + 1);
    const written = await this.writer.write(texts.map((one) => ({ ...one, places: [join(this.recent, one.name), this.path(one.name)] })));
    const names = new Set(written.names);
    for (const { name } of texts) if (!names.has(name)) this.release(name);
    return written;
  }

  /** Ends what writes; texts can still be read. */
  close(): void {
    this.writer.close();
  }

  release(name: string): void {
    const count = (this.held.get(name) ?? 1) - 1;
    if (count > 0) this.held.set(name, count);
    else this.held.delete(name);
  }

  /** The text, whole; `size` in octets where it is known. Throws TextLost when it is gone or cut short, other errors when the disk says no. */
  async read(name: string, size: number | null = null): Promise<Buffer> {
    const file = await this.open(name, size);
    try {
      const content = Buffer.allocUnsafe(file.size);
      for (let at = 0; at < file.size; ) {
        const { bytesRead } = await readFrom(file.handle, content, at, file.size - at, at);
        if (bytesRead === 0) throw new TextLost(name, 'cut short');
        at += bytesRead;
      }
      return content;
    } finally {
      await closeFile(file.handle);
    }
  }

  /** The text piece by piece, for who takes it slowly. That it is whole is known before the first piece. */
  async pieces(name: string, size: number): Promise<AsyncGenerator<Buffer>> {
    const file = await this.open(name, size);
    return (async function* () {
      try {
        for (let at = 0; at < size; ) {
          const piece = Buffer.allocUnsafe(Math.min(PIECE, size - at));
          const { bytesRead } = await readFrom(file.handle, piece, 0, piece.length, at);
          if (bytesRead === 0) throw new TextLost(name, 'cut short');
          at += bytesRead;
          yield piece.subarray(0, bytesRead);
        }
      } finally {
        await closeFile(file.handle);
      }
    })();
  }

  private async open(name: string, size: number | null): Promise<{ handle: number; size: number }> {
    let handle: number;
    try {
      // The sweep may move it to its lasting place at this very moment: then it is there.
      handle = await openFile(this.find(name), 'r').catch(() => openFile(this.find(name), 'r'));
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') throw new TextLost(name, 'gone');
      throw error;
    }
    const found = await statHandle(handle);
    if (found.isFile() && (size === null || found.size === size)) return { handle, size: found.size };
    await closeFile(handle);
    throw new TextLost(name, 'cut short');
  }

  /**
   * Moves files to their lasting place, and removes those that `unneeded` names; returns how many were removed. A little at a time: between two pieces
   * it waits for `breathe`. Only what is certainly ours is touched: a file, named by the SHA-256 of its content, in its place.
   */
  async sweep(unneeded: (names: readonly string[]) => Promise<readonly string[]>, breathe: () => Promise<void>): Promise<number> {
    let removed = 0;
    for (const folder of [
      'recent',
      ...(await listFolder(this.folder)).filter((one) => one.isDirectory() && /^[0-9a-f]{2}$/.test(one.name)).map((one) => one.name),
    ]) {
      const prefix = folder === 'recent' ? '' : folder;
      const ours = (await listFolder(join(this.folder, folder))).filter((one) => one.isFile() && NAME.test(prefix + one.name));
      for (let at = 0; at < ours.length; at += SWEPT_AT_ONCE) {
        await breathe();
        const names = ours.slice(at, at + SWEPT_AT_ONCE).map((one) => prefix + one.name);
        const gone = new Set(await unneeded(names.filter((name) => !this.held.has(name))));
        for (const name of names) {
          const path = join(this.folder, folder, prefix === '' ? name : name.slice(2));
          if (gone.has(name)) removed += (await this.remove(path, name)) ? 1 : 0;
          else if (prefix === '' && !this.held.has(name)) await renameFile(path, this.path(name)).catch(() => {});
        }
      }
    }
    return removed;
  }

  /** A file that was damaged, or is somebody else's, does not hold what its name says, and stays. */
  private async remove(path: string, name: string): Promise<boolean> {
    const content = await readWhole(path).catch(() => null);
    if (content === null || (await nameOf(content)) !== name) return false;
    // It may have been wanted again meanwhile; from here to the end nothing waits.
    if (this.held.has(name)) return false;
    unlinkSync(path);
    return true;
  }

  /** Whether a file is there with all its octets: a name alone may be what a crash left. */
  private async isWhole(name: string, size: number): Promise<boolean> {
    for (const path of [join(this.recent, name), this.path(name)]) if ((await statFile(path).catch(() => null))?.size === size) return true;
    return false;
  }

  private find(name: string): string {
    const path = this.path(name);
    // The recent one is whole; what a crash cut short in the lasting place gives way to it at the next sweep.
    const recent = join(this.recent, name);
    return existsSync(recent) ? recent : path;
  }

  private path(name: string): string {
    if (!NAME.test(name)) throw new Error('not the name of a message file');
    return join(this.folder, name.slice(0, 2), name.slice(2));
  }
}

/** One fsync of a folder serves all who renamed into it before it began. */
class FolderSync {
  private running: Promise<void> | null = null;
  private next: Promise<void> | null = null;

  constructor(private readonly handle: number) {}

  request(): Promise<void> {
    if (this.next !== null) return this.next;
    if (this.running === null) return this.start();
    this.next = this.running.then(() => {
      this.next = null;
      return this.start();
    });
    return this.next;
  }

  private start(): Promise<void> {
    this.running = syncAll(this.handle).finally(() => {
      this.running = null;
    });
    return this.running;
  }
}
