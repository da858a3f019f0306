import { close, existsSync, open, read } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { TextLost } from './message-files.ts';
import type { Readable } from './read-database.ts';

const openFile = promisify(open);
const readFrom = promisify(read);
const closeFile = promisify(close);

const NAME = /^[0-9a-f]{64}$/;

/** Reads message texts for who only reads: those that are files, and those that are not yet. */
export class TextReader {
  private readonly folder: string;

  constructor(
    private readonly db: Readable,
    directory: string,
  ) {
    this.folder = join(directory, 'messages');
  }

  /** Octets between two places of a text of that size. Throws TextLost when they are not there. */
  async slice(name: string, size: number, from: number, to: number): Promise<Buffer> {
    const length = Math.max(0, Math.min(to, size) - from);
    if (length === 0) return Buffer.alloc(0);
    return (
      this.unfiled(name, from, length) ??
      (await this.fromFile(name, from, length).catch((error: unknown) => this.again(name, from, length, error)))
    );
  }

  /** Throws TextLost when a text of that size is not there, or cut short. */
  async requireWhole(name: string, size: number): Promise<void> {
    if (size > 0) await this.slice(name, size, size - 1, size);
  }

  /** What was no file a moment ago may have become one, and the other way round for nobody. */
  private async again(name: string, from: number, length: number, error: unknown): Promise<Buffer> {
    if (!(error instanceof TextLost) || error.how !== 'gone') throw error;
    return this.unfiled(name, from, length) ?? this.fromFile(name, from, length);
  }

  private unfiled(name: string, from: number, length: number): Buffer | null {
    const found = this.db.one<{ some: Buffer }>(
      'SELECT CAST(substr(content, ?, ?) AS BLOB) AS some FROM unfiled_text WHERE name = ?',
      from + 1,
      length,
      name,
    )?.some;
    if (found && found.length < length) throw new TextLost(name, 'cut short');
    return found ?? null;
  }

  private async fromFile(name: string, from: number, length: number): Promise<Buffer> {
    let handle: number;
    try {
      handle = await openFile(this.find(name), 'r');
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') throw new TextLost(name, 'gone');
      throw error;
    }
    try {
      const octets = Buffer.allocUnsafe(length);
      for (let at = 0; at < length; ) {
        const { bytesRead } = await readFrom(handle, octets, at, length - at, from + at);
        if (bytesRead === 0) throw new TextLost(name, 'cut short');
        at += bytesRead;
      }
      return octets;
    } finally {
      await closeFile(handle);
    }
  }

  private find(name: string): string {
    if (!NAME.test(name)) throw new Error('not the name of a message file');
    const recent = join(this.folder, 'recent', name);
    return existsSync(recent) ? recent : join(this.folder, name.slice(0, 2), name.slice(2));
  }
}
