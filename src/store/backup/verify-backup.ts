import { existsSync, statSync } from 'node:fs';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import type { BackupManifest } from '../../core/backup/manifest.ts';
import { MIGRATIONS } from '../migrations.ts';
import { reasonOf } from '../open-data.ts';
import { countsIn } from './counts.ts';
import { withDatabase } from './database-pieces.ts';
import { digestOf } from './digests.ts';
import { Pace } from './pace.ts';
import { type BackupTarget, TEXT_LIST } from './target.ts';
import { listedTexts } from './text-list.ts';

export interface Verified {
  name: string;
  manifest: BackupManifest | null;
  /** In words, the first of each kind; none when all is well. */
  faults: string[];
  /** Texts that were read whole. */
  texts: number;
  /** Texts that are missing or not what was written, by name. */
  damaged: string[];
  /** Whether nothing else is wrong. */
  isWholeElse: boolean;
}

/** Faults of texts that are named. */
const MOST_NAMED = 5;

/** Proves a backup: every checksum, the database as a service would open it, every text by its name, and the counts. Waits for the disk, and for its pace. */
export function verifyBackup(
  target: BackupTarget,
  name: string,
  perSecond: number,
  onProgress: (done: number, total: number) => void = () => {},
): Verified {
  const place = target.of(name);
  const manifest = target.manifestOf(name);
  if (!existsSync(place)) return { name, manifest: null, faults: ['There is no such backup.'], texts: 0, damaged: [], isWholeElse: false };
  if (!manifest)
    return {
      name,
      manifest: null,
      faults: ['Its manifest is missing or does not match its checksum: the backup was interrupted or changed.'],
      texts: 0,
      damaged: [],
      isWholeElse: false,
    };
  const pace = new Pace(perSecond);
  const faults = databaseFaults(target, name, manifest, pace);
  const texts = textFaults(target, join(place, TEXT_LIST), manifest, pace, onProgress);
  return {
    name,
    manifest,
    faults: [...faults, ...texts.faults],
    texts: texts.read,
    damaged: texts.damaged,
    isWholeElse: faults.length === 0 && texts.isRead,
  };
}

function databaseFaults(target: BackupTarget, name: string, manifest: BackupManifest, pace: Pace): string[] {
  try {
    return withDatabase(target, name, (file) => faultsOfDatabase(file, manifest, pace));
  } catch (error) {
    return [`The database can’t be read: ${reasonOf(error)}.`];
  }
}

function faultsOfDatabase(file: string, { database, counts }: BackupManifest, pace: Pace): string[] {
  const { sha256, size } = digestOf(file, (octets) => pace.spent(octets));
  if (size !== database.size || sha256 !== database.sha256) return ['The database does not match its checksum.'];
  if (database.version > MIGRATIONS.length)
    return [`The database has version ${database.version}; this Tenedor knows versions up to ${MIGRATIONS.length}.`];
  const copy = new SQLite(file, { readonly: true });
  try {
    const [whole] = copy.pragma('integrity_check(1)') as { integrity_check: string }[];
    if (whole?.integrity_check !== 'ok') return [`The database is damaged: ${whole?.integrity_check}.`];
    if ((copy.pragma('foreign_key_check') as unknown[]).length > 0) return ['Rows of the database refer to missing rows.'];
    const found = countsIn(copy);
    return (Object.keys(counts) as (keyof typeof counts)[])
      .filter((what) => found[what] !== counts[what])
      .map((what) => `It holds ${found[what]} ${what}, and should hold ${counts[what]}.`);
  } finally {
    copy.close();
  }
}

function textFaults(
  target: BackupTarget,
  list: string,
  { texts }: BackupManifest,
  pace: Pace,
  onProgress: (done: number, total: number) => void,
): { faults: string[]; read: number; damaged: string[]; isRead: boolean } {
  const gone: string[] = [];
  const changed: string[] = [];
  let read = 0;
  try {
    if (digestOf(list).sha256 !== texts.sha256)
      return { faults: ['The list of texts does not match its checksum.'], read, damaged: [], isRead: false };
    for (const one of listedTexts(list)) {
      if (!one) continue;
      read += 1;
      const file = target.texts.of(one.name);
      if (statSync(file, { throwIfNoEntry: false })?.size !== one.size) gone.push(one.name);
      else if (digestOf(file, (octets) => pace.spent(octets)).sha256 !== one.name) changed.push(one.name);
      if (read % 100 === 0) onProgress(read, texts.count);
    }
  } catch (error) {
    return { faults: [`The texts can’t be read: ${reasonOf(error)}.`], read, damaged: [], isRead: false };
  }
  const words = (names: string[], what: string): string[] =>
    names.length === 0
      ? []
      : [
          `${names.length} ${names.length === 1 ? 'text is' : 'texts are'} ${what}: ${names
            .slice(0, MOST_NAMED)
            .map((name) => `${name.slice(0, 12)}…`)
            .join(', ')}${names.length > MOST_NAMED ? ' and others' : ''}.`,
        ];
  return {
    faults: [...words(gone, 'missing or truncated'), ...words(changed, 'damaged')],
    read,
    damaged: [...gone, ...changed],
    isRead: true,
  };
}
