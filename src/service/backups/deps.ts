import type { KeepPlan } from '../../core/backup/manifest.ts';
import type { BackupResult, BackupWork, Progress } from '../../store/backup/work.ts';
import type { BaseDeps } from '../base/deps.ts';

/** What the configuration says of backups. */
export interface BackupSettings {
  /** The data directory. */
  data: string;
  keyFile: string;
  /** Where they lie; null where only those who ask name one. */
  target: string | null;
  /** 0 for none by themselves. */
  everyHours: number;
  verifyDays: number;
  /** How often all that is stored is looked at; 0 for never. */
  integrityDays: number;
  /** Octets a second, 0 for no bound. */
  perSecond: number;
  keep: KeepPlan;
  /** A bucket that holds what the target holds, in words, and as the thread opens it; null where there is none. */
  bucket: { name: string; settings: unknown } | null;
  /** The file of the passphrase with which the key file is sealed; null to leave it out. */
  passphraseFile: string | null;
}

/** Work in a thread of its own. */
export type StartBackupWork = (work: BackupWork, onProgress: Progress) => { result: Promise<BackupResult>; stop(): Promise<void> };

/** What making backups needs. */
export interface BackupDeps extends BaseDeps {
  backupSettings: BackupSettings;
  startBackupWork: StartBackupWork;
}
