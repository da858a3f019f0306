import { readdir, rm } from 'node:fs/promises';
import { join } from 'node:path';

/** How folders in the data directory begin that a transfer works in: copies of backups of older versions, and unpacked archives. */
export const WORK = { recovering: 'recovering-', importing: 'importing-' } as const;

/** Takes away what transfers have left that were killed or stopped; none may be under way. */
export async function removeWorkFolders(data: string): Promise<void> {
  for (const name of await readdir(data))
    if (Object.values(WORK).some((begin) => name.startsWith(begin))) await rm(join(data, name), { recursive: true, force: true });
}
