import { createHash } from 'node:crypto';

/** What a backup says of itself: written last, so that a backup without it is torn. */
export interface BackupManifest {
  /** Since 2 the database lies in pieces, which backups share. */
  format: 1 | 2;
  /** The version of Tenedor that made it. */
  version: string;
  host: string;
  /** When its data was as it is here, in ms. */
  at: number;
  database: { version: number; size: number; sha256: string };
  /** Message texts that are files, beside those within the database. */
  texts: { count: number; size: number; sha256: string };
  counts: BackupCounts;
  /** Texts that the database speaks of, and that were not there or not whole. */
  lost: string[];
  /** The key file, sealed with a passphrase; null where it is not in the backup. */
  key: SealedKey | null;
}

export interface BackupCounts {
  domains: number;
  mailboxes: number;
  messages: number;
  /** Recipients whose message had not left. */
  waiting: number;
}

/** scrypt (RFC 7914) and AES-256-GCM; all as base64. */
export interface SealedKey {
  salt: string;
  nonce: string;
  sealed: string;
}

const isCount = (value: unknown): value is number => Number.isSafeInteger(value) && (value as number) >= 0;
const isDigest = (value: unknown): value is string => typeof value === 'string' && /^[0-9a-f]{64}$/.test(value);
const isText = (value: unknown): value is string => typeof value === 'string' && value.length <= 10_000;

const sealOf = (manifest: object): string => createHash('sha256').update(JSON.stringify(manifest)).digest('hex');

/** A manifest as it is written, with a seal over all of it: whatever of it was changed later is seen. */
export const manifestText = (manifest: BackupManifest): string => `${JSON.stringify({ ...manifest, seal: sealOf(manifest) }, null, 2)}\n`;

/** Backups of that version had no seal yet. */
const UNSEALED = '0.1.0';

/** Null for what is no manifest, one that was changed, or one of a later format. */
export function readManifest(text: string): BackupManifest | null {
  let value: Partial<BackupManifest> | null;
  let seal: unknown;
  try {
    ({ seal, ...value } = JSON.parse(text));
  } catch {
    return null;
  }
  if (seal === undefined ? value?.version !== UNSEALED : seal !== sealOf(value ?? {})) return null;
  const { database, texts, counts, key } = value ?? {};
  const isKey = key === null || [key?.salt, key?.nonce, key?.sealed].every(isText);
  const isWhole =
    (value?.format === 1 || value?.format === 2) &&
    isText(value.version) &&
    isText(value.host) &&
    isCount(value.at) &&
    isCount(database?.version) &&
    isCount(database?.size) &&
    isDigest(database?.sha256) &&
    isCount(texts?.count) &&
    isCount(texts?.size) &&
    isDigest(texts?.sha256) &&
    isCount(counts?.domains) &&
    isCount(counts?.mailboxes) &&
    isCount(counts?.messages) &&
    isCount(counts?.waiting) &&
    Array.isArray(value.lost) &&
    value.lost.every(isDigest) &&
    isKey;
  return isWhole ? (value as BackupManifest) : null;
}

/** `2026-11-27T12-05-31Z`: sorts by time, and is a name on every file system. */
export const backupName = (at: number): string => `${new Date(at).toISOString().slice(0, 19).replaceAll(':', '-')}Z`;
const NAME = /^(\d{4}-\d{2}-\d{2})T(\d{2})-(\d{2})-(\d{2})Z$/;
/** When a backup of that name was made, in ms; null for another name. */
export function timeOfBackup(name: string): number | null {
  const [, day, hour, minute, second] = NAME.exec(name) ?? [];
  const at = Date.parse(`${day}T${hour}:${minute}:${second}Z`);
  return Number.isNaN(at) ? null : at;
}

/** How long backups are kept: the newest of so many days, weeks and months. */
export interface KeepPlan {
  daily: number;
  weekly: number;
  monthly: number;
}

const DAY = 24 * 3_600_000;
/** Days since a Monday. */
const weekOf = (at: number): number => Math.floor((Math.floor(at / DAY) + 3) / 7);

/**
 * Which backups stay: of each day, week (from Monday) and month the newest that is whole, and where none is, the newest; those without any
 * count for nothing. The newest of all, and the newest whole one, always stay. In UTC.
 */
export function keptBackups(names: readonly string[], plan: KeepPlan, isWhole: (name: string) => boolean = () => true): Set<string> {
  const newestFirst = names.filter((name) => timeOfBackup(name) !== null).sort((one, other) => (one < other ? 1 : -1));
  const kept = new Set([...newestFirst.slice(0, 1), ...newestFirst.filter(isWhole).slice(0, 1)]);
  const keep = (number: number, periodOf: (at: number) => string | number): void => {
    const best = new Map<string | number, string>();
    for (const name of newestFirst) {
      const period = periodOf(timeOfBackup(name) as number);
      const found = best.get(period);
      if (found === undefined && best.size >= number) return take(best);
      if (found === undefined || (!isWhole(found) && isWhole(name))) best.set(period, name);
    }
    take(best);
  };
  const take = (best: ReadonlyMap<string | number, string>): void => {
    for (const name of best.values()) kept.add(name);
  };
  keep(plan.daily, (at) => Math.floor(at / DAY));
  keep(plan.weekly, weekOf);
  keep(plan.monthly, (at) => new Date(at).toISOString().slice(0, 7));
  return kept;
}
