import { createHash } from 'node:crypto';
import {
  chmodSync,
  closeSync,
  copyFileSync,
  existsSync,
  fsyncSync,
  linkSync,
  openSync,
  renameSync,
  rmSync,
  statSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { type BackupManifest, backupName, type KeepPlan, keptBackups, manifestText, type SealedKey } from '../../core/backup/manifest.ts';
import { makeFolder } from '../make-folder.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { DATABASE_FILE } from '../read-database.ts';
import { countsIn } from './counts.ts';
import { digestOf } from './digests.ts';
import type { Mirrored } from './mirror.ts';
import { NEEDED_TEXTS, placesOf } from './needed-texts.ts';
import { Pace } from './pace.ts';
import { removeUnlisted } from './remove-backups.ts';
import { BackupTarget, DATABASE_COPY, MANIFEST, syncFolder, TEXT_LIST, unfinished } from './target.ts';

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
  try {
    const database = await copyDatabase(order.data, join(place, DATABASE_COPY), pace, onProgress);
    const copied = new SQLite(join(place, DATABASE_COPY), { readonly: true });
    try {
      const texts = copyTexts(order.data, target, copied, { place, at: order.at }, pace, onProgress);
      const manifest: BackupManifest = {
        format: 1,
        version: order.version,
        host: order.host,
        at: order.at,
        database: { version: database.version, ...digestOf(join(place, DATABASE_COPY), (octets) => pace.spent(octets)) },
        texts: texts.listed,
        counts: countsIn(copied),
        lost: texts.lost,
        key: order.key,
      };
      writeWhole(join(place, MANIFEST), manifestText(manifest));
      copied.close();
      target.finish(place, name);
      return { name, manifest, newTexts: texts.newTexts, newOctets: texts.newOctets, removed: prune(target, order.keep), mirrored: null };
    } finally {
      copied.close();
    }
  } catch (error) {
    rmSync(place, { recursive: true, force: true });
    if (error instanceof StoreError) throw error;
    throw new StoreError(`The backup broke off: ${reasonOf(error)}. What was there before is as it was.`);
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
    syncFile(to);
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
  data: string,
  target: BackupTarget,
  database: SQLite.Database,
  { place, at }: { place: string; at: number },
  pace: Pace,
  onProgress: (done: number, total: number) => void,
): Copied {
  const lost: string[] = [];
  const touched = new Set<string>();
  const way: Way = { isLinked: true, folders: new Set(), isCompared: comparedAt(at) };
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
      const copied = copyText(data, target, file, pace, way);
      if (copied === null) lost.push(file);
      else {
        count += 1;
        size += copied.size;
        piece += `${file} ${copied.size}\n`;
        if (copied.isNew) {
          newTexts += 1;
          newOctets += copied.size;
          touched.add(target.textFolder(file));
        }
        if (piece.length > LIST_PIECE) write();
      }
      if (done % 100 === 0) onProgress(done, total);
    }
    write();
    fsyncSync(list);
    for (const folder of touched) syncFolder(folder);
    return { listed: { count, size, sha256: hash.digest('hex') }, lost, newTexts, newOctets };
  } finally {
    closeSync(list);
  }
}

/** What is known of the target: whether links were refused there, and which folders are there. */
interface Way {
  isLinked: boolean;
  folders: Set<string>;
  /** Whether a text that is there is compared with its name this time. */
  isCompared: (file: string) => boolean;
}

/** So many backups compare all texts that are there: one damaged at equal size is found and written anew. */
const COMPARED_WITHIN = 8;
const DAY_MS = 24 * 3_600_000;
const comparedAt =
  (at: number) =>
  (file: string): boolean =>
    (Number.parseInt(file.slice(0, 2), 16) + Math.floor(at / DAY_MS)) % COMPARED_WITHIN === 0;

/** A link where both are on one file system, else a copy; null for a text that is gone. */
function copyText(data: string, target: BackupTarget, file: string, pace: Pace, way: Way): { size: number; isNew: boolean } | null {
  const places = placesOf(data, file);
  // It may be on its way from one to the other.
  for (const source of [...places, ...places]) {
    try {
      const { size } = statSync(source);
      const to = target.text(file);
      const there = statSync(to, { throwIfNoEntry: false });
      if (there?.size === size && (!way.isCompared(file) || digestOf(to, (octets) => pace.spent(octets)).sha256 === file))
        return { size, isNew: false };
      const folder = target.textFolder(file);
      if (!way.folders.has(folder)) makeFolder(folder, 0o700);
      way.folders.add(folder);
      if (there) rmSync(to, { force: true });
      if (!way.isLinked || !link(source, to, way)) {
        const temporary = unfinished(folder, file);
        copyFileSync(source, temporary);
        if (digestOf(temporary).sha256 !== file) {
          rmSync(temporary);
          return null;
        }
        syncFile(temporary);
        renameSync(temporary, to);
        pace.spent(size);
      }
      return { size, isNew: true };
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'ENOENT') throw error;
    }
  }
  return null;
}

/** Whether a link could be made; a text that has too many of them says nothing of the next one. */
function link(source: string, to: string, way: Way): boolean {
  try {
    linkSync(source, to);
    return true;
  } catch (error) {
    const code = (error as NodeJS.ErrnoException).code ?? '';
    if (!['EXDEV', 'EPERM', 'ENOTSUP', 'EMLINK', 'EOPNOTSUPP'].includes(code)) throw error;
    if (code !== 'EMLINK') way.isLinked = false;
    return false;
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
  syncFile(file);
}

function syncFile(file: string): void {
  const open = openSync(file, 'r');
  fsyncSync(open);
  closeSync(open);
}
