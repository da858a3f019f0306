import { access, lstat, mkdtemp, readdir, realpath, rmdir } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { Gate } from '../../core/gate.ts';
import { reasonOf, StoreError } from '../../store/open-data.ts';
import { withinTime } from '../backups/within-time.ts';
import { badInput } from '../base/problem.ts';

/** What lies at a path of the server. */
export interface SeenPlace {
  kind: 'nothing' | 'file' | 'folder' | 'link' | 'other';
  /** Whether it leads into the data directory, whatever links are on the way. */
  isInData: boolean;
  isExport: boolean;
  isEmpty: boolean;
  /** Whether the folder that it is in is there. */
  hasFolder: boolean;
}

/** One at a time: a disk that does not answer keeps one of the few threads that read files. */
const looking = new Gate(1);

/** Looks at a path of the server, off the main thread. Throws Problem when it can't be looked at, or not in time. */
export async function lookAt(path: string, data: string): Promise<SeenPlace> {
  try {
    return await withinTime(
      looking.run(() => see(path, data)),
      path,
    );
  } catch (error) {
    if (error instanceof StoreError) throw badInput('path', error.message, 'Name another place.');
    if (error instanceof Error && 'code' in error)
      throw badInput('path', `${path} can’t be used: ${reasonOf(error)}.`, 'Name another place.');
    throw error;
  }
}

async function see(path: string, data: string): Promise<SeenPlace> {
  const found = await lstat(path).catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT' || error.code === 'ENOTDIR') return null;
    throw error;
  });
  const kind = !found ? 'nothing' : found.isSymbolicLink() ? 'link' : found.isFile() ? 'file' : found.isDirectory() ? 'folder' : 'other';
  const folder = await realpath(dirname(path)).catch(() => null);
  const real = kind === 'nothing' ? folder : await realpath(path).catch(() => path);
  const own = await realpath(data).catch(() => data);
  return {
    kind,
    isInData: real !== null && (real === own || real.startsWith(`${own}/`)),
    isExport:
      kind === 'folder' &&
      (await access(join(path, 'manifest.json')).then(
        () => true,
        () => false,
      )),
    isEmpty: kind === 'folder' && (await readdir(path)).length === 0,
    hasFolder: folder !== null,
  };
}

/** Whether the service may write in a folder. Only to do it shows it: to root the system allows all. */
export async function mayWrite(folder: string): Promise<boolean> {
  const tried = mkdtemp(join(folder, '.tried-')).then((made) => rmdir(made));
  return withinTime(tried, folder).then(
    () => true,
    () => false,
  );
}
