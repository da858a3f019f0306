import { chmodSync, mkdirSync, realpathSync } from 'node:fs';
import { basename, dirname, join } from 'node:path';

/**
 * Makes a folder with that mode, and those above it with theirs, whatever the process masks (umask). Unlike Node's own recursive making it ends where the system refuses a folder whose parent is
 * there (below /proc, say). Throws what the system says.
 */
export function makeFolder(path: string, mode: number, above = mode): void {
  const missing: string[] = [];
  for (let at = path; ; at = dirname(at)) {
    try {
      makeOne(at, at === path ? mode : above);
      break;
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (code === 'EEXIST') {
        if (missing.length > 0) break;
        // A file in its place is told by the next step.
        return;
      }
      if (code !== 'ENOENT' || dirname(at) === at || isThere(dirname(at))) throw error;
      missing.unshift(at);
    }
  }
  for (const one of missing) makeOne(one, one === path ? mode : above);
}

function makeOne(path: string, mode: number): void {
  mkdirSync(path, { mode });
  chmodSync(path, mode);
}

function isThere(path: string): boolean {
  try {
    realpathSync(path);
    return true;
  } catch {
    return false;
  }
}

/** Where a path leads when all links on the way are followed, as far as it is there. */
export function realPath(path: string): string {
  try {
    return realpathSync(path);
  } catch {
    return dirname(path) === path ? path : join(realPath(dirname(path)), basename(path));
  }
}

/** Whether a path leads into a folder, whatever links are on the way. */
export function leadsInto(path: string, folder: string): boolean {
  const [real, place] = [realPath(path), realPath(folder)];
  return real === place || real.startsWith(`${place}/`);
}
