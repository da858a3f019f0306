import { createHash, randomBytes } from 'node:crypto';
import { mkdirSync, readdirSync, readFileSync, unlinkSync } from 'node:fs';
import { type FileHandle, open, rename, stat } from 'node:fs/promises';
import { join } from 'node:path';

/** Message texts as files named by the SHA-256 of their content, written once and shared by all who refer to them. */
export class MessageFiles {
  private readonly folder: string;
  /** Written or about to be, and perhaps not yet referred to by the database: the sweep leaves them alone. */
  private readonly held = new Map<string, number>();
  private readonly folderSyncs = new Map<string, FolderSync>();

  constructor(directory: string) {
    this.folder = join(directory, 'messages');
    for (let at = 0; at < 256; at += 1) mkdirSync(join(this.folder, at.toString(16).padStart(2, '0')), { recursive: true, mode: 0o700 });
    mkdirSync(join(this.folder, 'new'), { recursive: true, mode: 0o700 });
    // What a crash left half written was never acknowledged.
    for (const name of readdirSync(join(this.folder, 'new'))) unlinkSync(join(this.folder, 'new', name));
  }

  /** Stores a text durably and returns its name. Call `release` when the database refers to it (or never will). */
  async write(content: Buffer): Promise<string> {
    const name = createHash('sha256').update(content).digest('hex');
    this.held.set(name, (this.held.get(name) ?? 0) + 1);
    try {
      const path = this.path(name);
      if (await exists(path, content.length)) return name;
      const temporary = join(this.folder, 'new', randomBytes(12).toString('hex'));
      const file = await open(temporary, 'wx', 0o600);
      try {
        await file.writeFile(content);
        await file.datasync();
      } finally {
        await file.close();
      }
      await rename(temporary, path);
      await this.syncFolder(name.slice(0, 2));
      return name;
    } catch (error) {
      this.release(name);
      throw error;
    }
  }

  release(name: string): void {
    const count = (this.held.get(name) ?? 1) - 1;
    if (count > 0) this.held.set(name, count);
    else this.held.delete(name);
  }

  read(name: string): Buffer {
    return readFileSync(this.path(name));
  }

  /** Removes the files for which `inUse` is false; returns how many. Done in one go, so that nothing can begin to use one meanwhile. */
  sweep(inUse: (name: string) => boolean): number {
    let removed = 0;
    for (const folder of readdirSync(this.folder)) {
      if (folder === 'new') continue;
      for (const rest of readdirSync(join(this.folder, folder))) {
        const name = folder + rest;
        if (this.held.has(name) || inUse(name)) continue;
        unlinkSync(this.path(name));
        removed += 1;
      }
    }
    return removed;
  }

  private path(name: string): string {
    if (!/^[0-9a-f]{64}$/.test(name)) throw new Error('not the name of a message file');
    return join(this.folder, name.slice(0, 2), name.slice(2));
  }

  /** One fsync of a folder serves all who renamed into it before it began. */
  private syncFolder(folder: string): Promise<void> {
    let sync = this.folderSyncs.get(folder);
    if (!sync) {
      sync = new FolderSync(join(this.folder, folder));
      this.folderSyncs.set(folder, sync);
    }
    return sync.request();
  }
}

class FolderSync {
  private handle: Promise<FileHandle> | null = null;
  private running: Promise<void> | null = null;
  private next: Promise<void> | null = null;

  constructor(private readonly path: string) {}

  request(): Promise<void> {
    if (this.next) return this.next;
    if (!this.running) return this.start();
    this.next = this.running.then(() => {
      this.next = null;
      return this.start();
    });
    return this.next;
  }

  private start(): Promise<void> {
    this.running = this.sync().finally(() => {
      this.running = null;
    });
    return this.running;
  }

  private async sync(): Promise<void> {
    this.handle ??= open(this.path, 'r');
    await (await this.handle).sync();
  }
}

async function exists(path: string, size: number): Promise<boolean> {
  try {
    return (await stat(path)).size === size;
  } catch {
    return false;
  }
}
