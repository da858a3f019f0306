import { join } from 'node:path';
import type { BackupManifest } from '../../core/backup/manifest.ts';
import { type ObjectStore, ObjectStoreError } from '../../core/backup/object-store.ts';
import type { ThreadOwner } from '../../threads/answering.ts';
import { ThreadCalls, threadProgram } from '../../threads/calls.ts';
import { leadsInto, realPath } from '../make-folder.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { openBackupCopy } from '../transfer/backup-copy.ts';
import { contentOf, type FolderContent } from '../transfer/recover.ts';
import { checkIntegrity, type Integrity, type IntegrityOrder } from './check-integrity.ts';
import { mirrorBackups } from './mirror.ts';
import { BackupTarget } from './target.ts';
import { type Verified, verifyBackup } from './verify-backup.ts';
import { type BackupOrder, type MadeBackup, writeBackup } from './write-backup.ts';

/** What a thread of backups does. */
export type BackupWork =
  /** `mirror`: a bucket that is to hold what the folder holds, as whoever opens it knows it. */
  | { kind: 'backup'; order: BackupOrder; mirror?: unknown }
  | { kind: 'verify'; target: string; name: string; perSecond: number }
  | { kind: 'integrity'; order: IntegrityOrder }
  /** The finished backups of a target; with `host` it becomes a target when it is an empty folder. */
  | { kind: 'list'; target: string; host: string | null; data: string }
  /** What a backup has of a mailbox; one of an older version is brought up to date in a copy. */
  | { kind: 'content'; target: string; name: string; data: string; address: string };
export type BackupResult =
  | { kind: 'backup'; made: MadeBackup }
  | { kind: 'verify'; verified: Verified }
  | { kind: 'integrity'; found: Integrity; isRepairing: boolean }
  | { kind: 'list'; backups: ListedBackup[] }
  | { kind: 'content'; folders: FolderContent[] | null };

export interface ListedBackup {
  name: string;
  manifest: BackupManifest;
}
export type Progress = (done: number, total: number) => void;

/** Does it here and waits for the disk: for a thread of its own, and for tests. */
export async function doBackupWork(
  work: BackupWork,
  onProgress: Progress,
  openMirror: (settings: unknown) => Promise<ObjectStore> = () => Promise.reject(new ObjectStoreError('There is no bucket.')),
): Promise<BackupResult> {
  if (work.kind === 'backup') {
    requireOutsideData(work.order.target, work.order.data);
    const made = await writeBackup(work.order, onProgress);
    return { kind: 'backup', made: work.mirror === undefined ? made : { ...made, mirrored: await mirrored(work, openMirror, onProgress) } };
  }
  if (work.kind === 'integrity')
    return { kind: 'integrity', found: checkIntegrity(work.order, onProgress), isRepairing: work.order.isRepairing };
  if (work.kind === 'list') {
    requireOutsideData(work.target, work.data);
    return { kind: 'list', backups: BackupTarget.open(work.target, work.host).list() };
  }
  if (work.kind === 'content') {
    const { db, close } = openBackupCopy(work.target, work.name, work.data);
    try {
      return { kind: 'content', folders: contentOf(db, work.address) };
    } finally {
      close();
    }
  }
  return { kind: 'verify', verified: verifyBackup(BackupTarget.open(work.target, null), work.name, work.perSecond, onProgress) };
}

const TOLD_EVERY_MS = 200;
/** What the thread of a backup does. */
export const backupWork =
  (openMirror: (settings: unknown) => Promise<ObjectStore>) =>
  (_given: null, owner: ThreadOwner): { answer: (work: BackupWork) => Promise<BackupResult> } => {
    let told = 0;
    const onProgress = (done: number, total: number): void => {
      if (performance.now() - told < TOLD_EVERY_MS) return;
      told = performance.now();
      owner.tell('progress', done, total);
    };
    return { answer: (work) => doBackupWork(work, onProgress, openMirror) };
  };

/** Backups lie beside the data, or in a folder of their own within it: links that lead among the service's own files are refused. */
function requireOutsideData(target: string, data: string): void {
  if (leadsInto(target, data) && !leadsInto(target, join(realPath(data), 'backups')))
    throw new StoreError(`${target} is inside the data directory.`);
}

/** The backup is good whatever becomes of the bucket; that is told beside it. */
async function mirrored(
  { order, mirror }: Extract<BackupWork, { kind: 'backup' }>,
  openMirror: (settings: unknown) => Promise<ObjectStore>,
  onProgress: Progress,
): Promise<MadeBackup['mirrored']> {
  let to = 'the bucket';
  try {
    const store = await openMirror(mirror);
    to = store.name;
    return { to, ...(await mirrorBackups(BackupTarget.open(order.target, null), store, onProgress)) };
  } catch (error) {
    if (error instanceof ObjectStoreError) return { to, fault: error.message };
    // A file that can't be read, here.
    if ((error as { code?: unknown }).code !== undefined) return { to, fault: `${reasonOf(error)}.` };
    throw error;
  }
}

/** A piece of work in a thread. Throws StoreError for what the disk or the target say. */
export class BackupThread {
  private readonly calls: ThreadCalls<BackupWork, BackupResult>;
  readonly result: Promise<BackupResult>;

  constructor(work: BackupWork, onProgress: Progress) {
    this.calls = new ThreadCalls(threadProgram('backup'), null, {
      name: 'the thread of a backup',
      owner: { progress: onProgress },
      foreseen: (reason) => new StoreError(reason),
      ended: () => new StoreError('It was interrupted.'),
    });
    this.result = this.calls.ask(work).finally(() => this.calls.stop());
  }

  /** Breaks it off; what it leaves is taken for nothing. */
  stop(): Promise<void> {
    return this.calls.stop();
  }
}
