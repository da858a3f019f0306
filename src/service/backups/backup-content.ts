import { StoreError } from '../../store/open-data.ts';
import type { FolderContent } from '../../store/transfer/recover.ts';
import { Problem } from '../base/problem.ts';
import type { BackupKeeper } from './backup-keeper.ts';
import type { BackupDeps } from './deps.ts';

export interface BackupContent {
  backup: string;
  address: string;
  folders: FolderContent[];
}

/** One at a time in each service: that of an older version is brought up to date in a copy first. */
const looking = new WeakSet<BackupKeeper>();

/** What a backup has of a mailbox, folder by folder; the newest where none is named. Throws Problem. */
export async function backupContent(
  context: BackupDeps & { backups: BackupKeeper },
  address: string,
  backup: string | null,
): Promise<BackupContent> {
  const { target, name } = await context.backups.meant(null, backup);
  if (looking.has(context.backups)) throw new Problem('under-way', 'A backup is being read.', 'Look again in a moment.');
  looking.add(context.backups);
  try {
    const { data } = context.backupSettings;
    const found = await context.startBackupWork({ kind: 'content', target, name, data, address }, () => {}).result;
    const folders = found.kind === 'content' ? found.folders : null;
    if (folders) return { backup: name, address, folders };
    throw new Problem(
      'not-found',
      `${address} had no mailbox when the backup ${name} was made.`,
      'Look into an older one: tenedor backup list',
    );
  } catch (error) {
    if (error instanceof StoreError)
      throw new Problem('not-set-up', `The backup ${name} can’t be read: ${error.message}`, 'Verify it: tenedor backup verify');
    throw error;
  } finally {
    looking.delete(context.backups);
  }
}
