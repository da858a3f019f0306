import type { UpkeepKind } from '../../core/vocabulary.ts';
import type { Readable } from '../../store/read-database.ts';
import * as store from '../../store/upkeep-runs.ts';
import type { BackupSettings } from './deps.ts';

const HOUR = 3_600_000;
/** After one that failed, the next is tried so much later. */
const AGAIN_MS = HOUR;
/** Somebody is told when none has succeeded for so many times as long as it should take. */
const OVERDUE = 2;

export interface UnderWay {
  kind: UpkeepKind;
  target: string | null;
  name: string | null;
  startedAt: number;
  done: number;
  total: number;
}

export interface BackupState {
  target: string | null;
  everyHours: number;
  verifyDays: number;
  keep: { daily: number; weekly: number; monthly: number };
  isKeySealed: boolean;
  /** Where all of it is held once more; null for nowhere. */
  bucket: string | null;
  /** The last backup that succeeded, and the last proof of one. */
  lastGood: store.UpkeepRun | null;
  last: store.UpkeepRun | null;
  lastVerified: store.UpkeepRun | null;
  /** The last look at what is stored. */
  lastIntegrity: store.UpkeepRun | null;
  /** When the next is due; null where none comes by itself. */
  dueAt: number | null;
  isOverdue: boolean;
  underWay: UnderWay | null;
}

/** How it stands with backups, by the configuration and what was written down of them. */
export function backupState(db: Readable, settings: BackupSettings, now: number, underWay: UnderWay | null): BackupState {
  const { target, everyHours, verifyDays, keep, passphraseFile, bucket } = settings;
  const lastGood = store.lastRun(db, 'backup', true);
  const last = store.lastRun(db, 'backup', false);
  const isScheduled = target !== null && everyHours > 0;
  return {
    target,
    everyHours,
    verifyDays,
    keep,
    isKeySealed: passphraseFile !== null,
    bucket: bucket?.name ?? null,
    lastGood,
    last,
    lastVerified: store.lastRun(db, 'verify', false),
    lastIntegrity: store.lastRun(db, 'integrity', false),
    dueAt: isScheduled ? dueAt(settings, lastGood, last) : null,
    // Where none has succeeded, since when one was tried.
    isOverdue: isScheduled && now - (lastGood?.endedAt ?? store.firstRunAt(db) ?? now) > OVERDUE * everyHours * HOUR,
    underWay,
  };
}

export function dueAt({ everyHours }: BackupSettings, lastGood: store.UpkeepRun | null, last: store.UpkeepRun | null): number {
  const due = lastGood === null ? 0 : lastGood.startedAt + everyHours * HOUR;
  return last?.isGood === false ? Math.max(due, (last.endedAt ?? 0) + AGAIN_MS) : due;
}
