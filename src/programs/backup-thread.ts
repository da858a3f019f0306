import type { ObjectStore } from '../core/backup/object-store.ts';
import type { BucketSettings } from '../net/bucket.ts';
import { backupWork } from '../store/backup/work.ts';
import { StoreError } from '../store/open-data.ts';
import { answerCalls } from '../threads/answering.ts';

/** A thread that makes, proves and lists backups: it reads much, and waits for the disk. Who has no bucket need not read its client. */
const openMirror = async (settings: unknown): Promise<ObjectStore> =>
  (await import('../net/bucket.ts')).openBucket(settings as BucketSettings);
answerCalls(backupWork(openMirror), (error) => error instanceof StoreError);
