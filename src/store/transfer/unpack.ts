import { createReadStream, createWriteStream, lstatSync, mkdtempSync, rmSync, statfsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { createGunzip } from 'node:zlib';
import { extract } from 'tar-stream';
import { makeFolder } from '../make-folder.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { WORK } from './work-folders.ts';

/** What is left free, whatever an archive holds. */
const LEFT_FREE = 1024 * 1024 * 1024;
const LOOK_EVERY = 16 * 1024 * 1024;
const MOST_FILES = 5_000_000;

export const isArchive = (path: string): boolean => /\.(tar|tgz|tar\.gz)$/i.test(path) && lstatSync(path).isFile();

/** Unpacks an archive into a folder of the data directory; nothing of it leads elsewhere. Throws StoreError. */
export async function unpacked(path: string, data: string): Promise<{ folder: string; remove(): void }> {
  const folder = mkdtempSync(join(data, WORK.importing));
  const remove = (): void => rmSync(folder, { recursive: true, force: true });
  const free = (): number => {
    const { bavail, bsize } = statfsSync(folder);
    return bavail * bsize;
  };
  let since = 0;
  let files = 0;
  const counted = (some: Buffer): void => {
    since += some.length;
    if (since < LOOK_EVERY) return;
    since = 0;
    if (free() < LEFT_FREE) throw new StoreError(`There is not enough room on the disk to unpack ${path}.`);
  };
  const archive = extract();
  const reading = (async () => {
    for await (const entry of archive) {
      files += 1;
      if (files > MOST_FILES) throw new StoreError(`${path} has too many files.`);
      const parts = entry.header.name.split('/').filter((one: string) => one !== '' && one !== '.');
      const isSafe =
        parts.length > 0 &&
        parts.length < 30 &&
        parts.every((one: string) => one !== '..' && !one.includes('\0') && Buffer.byteLength(one) <= 255);
      if (entry.header.type !== 'file' || !isSafe) {
        entry.resume();
        continue;
      }
      const place = join(folder, ...parts);
      makeFolder(dirname(place), 0o700);
      const pieces = async function* () {
        for await (const some of entry as AsyncIterable<Buffer>) {
          counted(some);
          yield some;
        }
      };
      await pipeline(Readable.from(pieces()), createWriteStream(place, { mode: 0o600, flags: 'w' }));
    }
  })();
  try {
    const read = createReadStream(path);
    await Promise.all([reading, /gz$/i.test(path) ? pipeline(read, createGunzip(), archive) : pipeline(read, archive)]);
    return { folder, remove };
  } catch (error) {
    remove();
    if (error instanceof StoreError) throw error;
    throw new StoreError(`${path} can’t be unpacked: ${reasonOf(error)}.`);
  }
}
