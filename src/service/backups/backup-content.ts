import { openBackupCopy } from '../../store/transfer/backup-copy.ts';
import { contentOf } from '../../store/transfer/recover.ts';
import { Problem } from '../base/problem.ts';
import type { BackupKeeper } from './backup-keeper.ts';
import type { BackupDeps } from './deps.ts';

export interface BackupContent {
  backup: string;
  address: string;
  folders: { folder: string; messages: number; bytes: number }[];
}

/** What a backup has of a mailbox, folder by folder; the newest where none is named. Throws Problem. */
export function backupContent(context: BackupDeps & { backups: BackupKeeper }, address: string, backup: string | null): BackupContent {
  const { target, name, isOlder } = context.backups.meant(null, backup);
  // It would have to be brought up to date in a copy first, which takes its time.
  if (isOlder)
    throw new Problem(
      'not-set-up',
      `The backup ${name} was made by an older version; what it has is not listed.`,
      `Bring back what is missing all the same: tenedor backup recover ${address} --backup ${name}`,
    );
  const { db, close } = openBackupCopy(target, name, context.backupSettings.data);
  try {
    const folders = contentOf(db, address);
    if (folders) return { backup: name, address, folders };
    throw new Problem(
      'not-found',
      `${address} had no mailbox when the backup ${name} was made.`,
      'Look into an older one: tenedor backup list',
    );
  } finally {
    close();
  }
}
