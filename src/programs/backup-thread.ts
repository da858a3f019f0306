import { parentPort, workerData } from 'node:worker_threads';
import type { ObjectStore } from '../core/backup/object-store.ts';
import type { BucketSettings } from '../net/bucket.ts';
import { type BackupWork, doBackupWork, type FromThread } from '../store/backup/work.ts';
import { StoreError } from '../store/open-data.ts';

/** A thread of the service that makes or verifies one backup: it reads much, and waits for the disk. */

const EVERY_MS = 200;
let told = 0;
const tell = (message: FromThread): void => parentPort?.postMessage(message);
const onProgress = (done: number, total: number): void => {
  if (performance.now() - told < EVERY_MS) return;
  told = performance.now();
  tell({ kind: 'progress', done, total });
};
// Who has no bucket need not read its client.
const openMirror = async (settings: unknown): Promise<ObjectStore> =>
  (await import('../net/bucket.ts')).openBucket(settings as BucketSettings);
doBackupWork(workerData as BackupWork, onProgress, openMirror).then(
  (result) => tell({ kind: 'done', result }),
  (error: unknown) =>
    tell({
      kind: 'failed',
      reason: error instanceof StoreError ? error.message : error instanceof Error ? (error.stack ?? error.message) : String(error),
      isExpected: error instanceof StoreError,
    }),
);
