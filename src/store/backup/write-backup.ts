import { createHash } from 'node:crypto';
import { chmodSync, closeSync, existsSync, fsyncSync, openSync, rmSync, writeFileSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { type BackupManifest, backupName, type KeepPlan, keptBackups, manifestText, type SealedKey } from '../../core/backup/manifest.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { DATABASE_FILE } from '../read-database.ts';
import { countsIn } from './counts.ts';
import { cutDatabase } from './database-pieces.ts';
import type { Mirrored } from './mirror.ts';
import { NEEDED_TEXTS } from './needed-texts.ts';
import { Pace } from './pace.ts';
import { removeUnlisted } from './remove-backups.ts';
import { SharedWriter } from './shared-writer.ts';
import { BackupTarget, DATABASE_COPY, MANIFEST, PIECE_LIST, syncPath, TEXT_LIST } from './target.ts';

export interface BackupOrder {
  /** The data directory. */
  data: string;
  target: string;
  host: string;
  version: string;
  at: number;
  /** Octets a second, 0 for no bound. */
  perSecond: number;
  keep: KeepPlan;
  key: SealedKey | null;
}

export interface MadeBackup {
  name: string;
  manifest: BackupManifest;
  /** Texts that no earlier backup had, and their octets. */
  newTexts: number;
  newOctets: number;
  /** Octets of the database that no earlier one had. */
  newInDatabase: number;
  /** Backups that were taken away, as the plan has it. */
  removed: string[];
  /** What was sent to a bucket, or why it could not be; null where there is none. */
  mirrored: (Mirrored & { to: string }) | { to: string; fault: string } | null;
}

/** Pages that are copied in one step. */
const PAGES = 512;
const LIST_PIECE = 1 << 20;

/**
 * Makes a backup while the service runs. It reads the database as it is at one moment, by a connection of its own that holds up nobody (WAL), and the texts that
 * it needs; only those are written that the target does not have. What breaks off leaves nothing that is taken for a backup, and what was copied is not copied again.
 * Runs in a thread or process of its own: it waits for the disk, and for its pace. Throws StoreError.
 */
export async function writeBackup(order: BackupOrder, onProgress: (done: number, total: number) => void = () => {}): Promise<MadeBackup> {
  const target = BackupTarget.open(order.target, order.host);
  target.tidy();
  const name = freeName(target, order.at);
  const pace = new Pace(order.perSecond);
  const place = target.begin(name);
  const shared = new SharedWriter(order.data, target, order.at, pace);
  try {
    const copy = join(place, DATABASE_COPY);
    const { version } = await copyDatabase(order.data, copy, pace, onProgress);
    const copied = new SQLite(copy, { readonly: true });
    try {
      const texts = copyTexts(shared, copied, place, onProgress);
      const { newOctets, ...database } = cutDatabase(copy, join(place, PIECE_LIST), shared);
      shared.flush();
      const manifest: BackupManifest = {
        format: 2,
        version: order.version,
        host: order.host,
        at: order.at,
        database: { version, ...database },
        texts: texts.listed,
        counts: countsIn(copied),
        lost: texts.lost,
        key: order.key,
      };
      writeWhole(join(place, MANIFEST), manifestText(manifest));
      copied.close();
      rmSync(copy);
      target.finish(place, name);
      const isNew = { newTexts: texts.newTexts, newOctets: texts.newOctets, newInDatabase: newOctets };
      return { name, manifest, ...isNew, removed: prune(target, order.keep), mirrored: null };
    } finally {
      copied.close();
    }
  } catch (error) {
    rmSync(place, { recursive: true, force: true });
    if (error instanceof StoreError) throw error;
    throw new StoreError(`The backup failed: ${reasonOf(error)}. Existing backups are unchanged.`);
  }
}

/** Two in one second have names of two seconds. */
function freeName(target: BackupTarget, at: number): string {
  for (let second = at; ; second += 1000) if (!existsSync(target.of(backupName(second)))) return backupName(second);
}

async function copyDatabase(
  data: string,
  to: string,
  pace: Pace,
  onProgress: (done: number, total: number) => void,
): Promise<{ version: number }> {
  const source = new SQLite(join(data, DATABASE_FILE), { readonly: true });
  try {
    // Held to the end, so that all of it is of one moment and no write of others begins it anew.
    source.exec('BEGIN');
    const version = source.pragma('user_version', { simple: true }) as number;
    const pageSize = source.pragma('page_size', { simple: true }) as number;
    source.prepare('SELECT count(*) FROM sqlite_schema').get();
    await source.backup(to, {
      progress: ({ totalPages, remainingPages }) => {
        pace.spent(PAGES * pageSize);
        onProgress((totalPages - remainingPages) * pageSize, totalPages * pageSize);
        return PAGES;
      },
    });
    source.exec('COMMIT');
    chmodSync(to, 0o600);
    const copy = new SQLite(to);
    // One file, without a journal beside it.
    copy.pragma('journal_mode = DELETE');
    copy.close();
    return { version };
  } finally {
    source.close();
  }
}

interface Copied {
  listed: BackupManifest['texts'];
  lost: string[];
  newTexts: number;
  newOctets: number;
}

/** Copies the texts that the database needs and the target lacks, and lists them all. */
function copyTexts(
  shared: SharedWriter,
  database: SQLite.Database,
  place: string,
  onProgress: (done: number, total: number) => void,
): Copied {
  const lost: string[] = [];
  const hash = createHash('sha256');
  const list = openSync(join(place, TEXT_LIST), 'wx', 0o600);
  let piece = '';
  let [count, size, newTexts, newOctets] = [0, 0, 0, 0];
  const write = (): void => {
    hash.update(piece);
    for (let octets = Buffer.from(piece); octets.length > 0; ) octets = octets.subarray(writeSync(list, octets));
    piece = '';
  };
  try {
    const total = (database.prepare(`SELECT count(*) AS count FROM (${NEEDED_TEXTS})`).get() as { count: number }).count;
    let done = 0;
    for (const { file } of database.prepare(`${NEEDED_TEXTS} ORDER BY file`).iterate() as Iterable<{ file: string }>) {
      done += 1;
      const copied = shared.putText(file);
      if (copied === null) lost.push(file);
      else {
        count += 1;
        size += copied.size;
        piece += `${file} ${copied.size}\n`;
        if (copied.isNew) {
          newTexts += 1;
          newOctets += copied.size;
        }
        if (piece.length > LIST_PIECE) write();
      }
      if (done % 100 === 0) onProgress(done, total);
    }
    write();
    fsyncSync(list);
    return { listed: { count, size, sha256: hash.digest('hex') }, lost, newTexts, newOctets };
  } finally {
    closeSync(list);
  }
}

/** Takes away what the plan does not keep, and the texts that only those had. What is decided here is noted, for the bucket to follow. */
function prune(target: BackupTarget, plan: KeepPlan): string[] {
  const listed = target.list();
  const whole = new Set(listed.filter(({ manifest }) => manifest.lost.length === 0).map((one) => one.name));
  const names = listed.map((one) => one.name);
  const kept = keptBackups(names, plan, (name) => whole.has(name));
  const removed = names.filter((name) => !kept.has(name));
  if (removed.length > 0) target.noteRemoved(removed);
  for (const name of removed) target.remove(name);
  if (removed.length === 0) return removed;
  try {
    removeUnlisted(target);
  } catch (error) {
    // Where a list is damaged the texts stay; the backup that was just made is good all the same.
    if (!(error instanceof StoreError)) throw error;
  }
  return removed;
}

function writeWhole(file: string, text: string): void {
  writeFileSync(file, text, { mode: 0o600 });
  syncPath(file);
}
