import { statfs } from 'node:fs/promises';
import type { DiskSpace } from '../service/base/space.ts';

/** The room on the disk that has a path, for this user. */
export async function diskSpaceOf(path: string): Promise<DiskSpace> {
  const { bsize, bavail, blocks } = await statfs(path);
  return { free: bsize * bavail, total: bsize * blocks };
}
