import { createReadStream, createWriteStream, linkSync, lstatSync, mkdtempSync, rmSync, statfsSync } from 'node:fs';
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

/** Something of an archive that is not taken, and why. */
export interface NotUnpacked {
  name: string;
  why: string;
}
const MOST_TOLD = 1000;

/** The parts of a path that leads nowhere but into the folder; null for another. */
function partsOf(name: string): string[] | null {
  const parts = name.split('/').filter((one) => one !== '' && one !== '.');
  const isSafe =
    parts.length > 0 && parts.length < 30 && parts.every((one) => one !== '..' && !one.includes('\0') && Buffer.byteLength(one) <= 255);
  return isSafe ? parts : null;
}

/** What kinds of entries say nothing of mail, as POSIX.1-2017 (pax) has them, in words. */
const KINDS: Record<string, string> = {
  symlink: 'a symbolic link, which is not followed',
  'block-device': 'a device',
  'character-device': 'a device',
  fifo: 'a pipe',
};

/** Unpacks an archive into a folder of the data directory; nothing of it leads elsewhere. Throws StoreError. */
export async function unpacked(path: string, data: string): Promise<{ folder: string; leftOut: NotUnpacked[]; remove(): void }> {
  const leftOut: NotUnpacked[] = [];
  const leaveOut = (name: string, why: string): void => {
    if (leftOut.length < MOST_TOLD) leftOut.push({ name, why });
  };
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
  /** One file under two names, as archives of mail directories have it: the first name came before. */
  const linked = (parts: string[], target: string): void => {
    const from = partsOf(target);
    try {
      const first = join(folder, ...(from ?? ['']));
      if (!from || !lstatSync(first).isFile()) throw new StoreError('no file');
      const place = join(folder, ...parts);
      makeFolder(dirname(place), 0o700);
      linkSync(first, place);
    } catch {
      leaveOut(parts.join('/'), `It is a second name of ${target.slice(0, 200)}, which is not in the archive before it.`);
    }
  };
  const archive = extract();
  const reading = (async () => {
    for await (const entry of archive) {
      files += 1;
      if (files > MOST_FILES) throw new StoreError(`${path} has too many files.`);
      const { name, type, linkname } = entry.header;
      const parts = partsOf(name);
      if (type !== 'file' || !parts) {
        entry.resume();
        if (type === 'directory') continue;
        if (!parts) leaveOut(name, 'Its path leaves the archive, or is too long.');
        else if (type === 'link') linked(parts, linkname ?? '');
        else leaveOut(name, `It is ${KINDS[type ?? ''] ?? 'neither a file nor a folder'}.`);
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
    return { folder, leftOut, remove };
  } catch (error) {
    remove();
    if (error instanceof StoreError) throw error;
    throw new StoreError(`${path} can’t be unpacked: ${reasonOf(error)}.`);
  }
}
