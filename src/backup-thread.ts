import { parentPort, workerData } from 'node:worker_threads';
import { type BackupWork, doBackupWork, type FromThread } from './store/backup/work.ts';
import { StoreError } from './store/open-data.ts';

/** A thread of the service that makes or verifies one backup: it reads much, and waits for the disk. */

const EVERY_MS = 200;
let told = 0;
const tell = (message: FromThread): void => parentPort?.postMessage(message);
doBackupWork(workerData as BackupWork, (done, total) => {
  if (performance.now() - told < EVERY_MS) return;
  told = performance.now();
  tell({ kind: 'progress', done, total });
}).then(
  (result) => tell({ kind: 'done', result }),
  (error: unknown) =>
    tell({
      kind: 'failed',
      reason: error instanceof StoreError ? error.message : error instanceof Error ? (error.stack ?? error.message) : String(error),
      isExpected: error instanceof StoreError,
    }),
);
