import { closeSync, constants, copyFileSync, existsSync, fsyncSync, openSync, renameSync, rmSync, statSync } from 'node:fs';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { syncPath } from '../backup/target.ts';
import { makeFolder } from '../make-folder.ts';
import { openDatabase, reasonOf, StoreError } from '../open-data.ts';
import { DATABASE_FILE } from '../read-database.ts';
import { SEARCH_FILE } from '../search-index.ts';

/** The database of a data directory around an update. All of it may be done again after it was cut off. */

const BESIDE = ['-wal', '-shm'];

function sentence<T>(what: string, work: () => T): T {
  try {
    return work();
  } catch (error) {
    if (error instanceof StoreError) throw error;
    throw new StoreError(`${what}: ${reasonOf(error)}.`);
  }
}

/** Copies the database into a folder while a service runs on it, as it is at one moment. Returns its octets and its version. */
export async function copyRunning(data: string, folder: string): Promise<{ octets: number; databaseVersion: number }> {
  const to = join(folder, DATABASE_FILE);
  let source: SQLite.Database | null = null;
  try {
    rmSync(folder, { recursive: true, force: true });
    makeFolder(folder, 0o700);
    source = new SQLite(join(data, DATABASE_FILE), { readonly: true, fileMustExist: true });
    await source.backup(to);
    const databaseVersion = source.pragma('user_version', { simple: true }) as number;
    return { octets: statSync(to).size, databaseVersion };
  } catch (error) {
    throw new StoreError(`The database of ${data} can’t be copied: ${reasonOf(error)}.`);
  } finally {
    source?.close();
  }
}

/** What no version takes away, by its table. */
const HELD = ['customer', 'domain', 'mailbox', 'alias', 'folder', 'message', 'recipient', 'account'];

/** Rows of each of them; none of one that is not there. */
const rowsHeld = (database: SQLite.Database): Map<string, number> =>
  new Map(
    HELD.map((table) => {
      const isThere = database.prepare("SELECT 1 FROM sqlite_master WHERE type IN ('table', 'view') AND name = ?").get(table) !== undefined;
      const found = isThere ? database.prepare<[], { rows: number }>(`SELECT count(*) AS rows FROM ${table}`).get() : undefined;
      return [table, found?.rows ?? 0];
    }),
  );

/** Brings the database of a folder up to date, and looks at it. `ms` is what that took, `lost` what it holds no more. */
export function bringUpToDate(
  folder: string,
  now: () => number,
): { from: number; to: number; ms: number; octets: number; lost: { what: string; rows: number }[] } {
  const path = join(folder, DATABASE_FILE);
  const { from, before } = stateOf(path);
  const began = now();
  const database = openDatabase(folder);
  try {
    const to = database.pragma('user_version', { simple: true }) as number;
    const ms = now() - began;
    const after = rowsHeld(database);
    const lost = HELD.map((what) => ({ what, rows: (before.get(what) ?? 0) - (after.get(what) ?? 0) })).filter(({ rows }) => rows > 0);
    return { from, to, ms, octets: statSync(path).size, lost };
  } finally {
    database.close();
  }
}

const stateOf = (path: string): { from: number; before: Map<string, number> } =>
  sentence(`The database ${path} can’t be read`, () => {
    const database = new SQLite(path, { readonly: true, fileMustExist: true });
    try {
      return { from: database.pragma('user_version', { simple: true }) as number, before: rowsHeld(database) };
    } finally {
      database.close();
    }
  });

/** Keeps the database of a service that has stopped, whole. One that was kept is kept: it is of before. */
export function saveDatabase(data: string, folder: string): void {
  const kept = join(folder, DATABASE_FILE);
  if (existsSync(kept)) return;
  sentence(`The database of ${data} can’t be kept aside`, () => {
    const path = join(data, DATABASE_FILE);
    const database = new SQLite(path, { fileMustExist: true });
    // What a kill has left beside it belongs to it.
    database.pragma('wal_checkpoint(TRUNCATE)');
    database.close();
    makeFolder(folder, 0o700);
    copyWhole(path, kept);
  });
}

function copyWhole(from: string, to: string): void {
  const unfinished = `${to}.unfinished`;
  rmSync(unfinished, { force: true });
  copyFileSync(from, unfinished, constants.COPYFILE_FICLONE);
  const file = openSync(unfinished, 'r+');
  fsyncSync(file);
  closeSync(file);
  renameSync(unfinished, to);
  syncPath(join(to, '..'));
}

/** What has come since the database was kept: messages that were accepted, and folders that are not as they were. */
export function changedSince(data: string, folder: string): { messages: number; folders: number } {
  return sentence(`The database of ${data} can’t be compared with the one that was kept`, () => {
    const database = new SQLite(join(data, DATABASE_FILE), { fileMustExist: true });
    try {
      database.prepare('ATTACH ? AS kept').run(join(folder, DATABASE_FILE));
      const count = (sql: string): number => database.prepare<[], { rows: number }>(`SELECT count(*) AS rows FROM ${sql}`).get()?.rows ?? 0;
      return {
        messages: count("main.journey n WHERE n.outcome = 'accepted' AND NOT EXISTS (SELECT 1 FROM kept.journey o WHERE o.id = n.id)"),
        folders: count('main.folder n LEFT JOIN kept.folder o ON o.id = n.id WHERE o.id IS NULL OR n.highest_modseq <> o.highest_modseq'),
      };
    } finally {
      database.close();
    }
  });
}

/** Puts the database that was kept back into its place. What is made from it is made anew. */
export function putBack(data: string, folder: string): void {
  const kept = join(folder, DATABASE_FILE);
  if (!existsSync(kept)) throw new StoreError(`There is no database that was kept in ${folder}.`);
  sentence(`The database that was kept can’t be put back into ${data}`, () => {
    const path = join(data, DATABASE_FILE);
    for (const one of BESIDE) rmSync(path + one, { force: true });
    copyWhole(kept, path);
    for (const one of [SEARCH_FILE, ...BESIDE.map((end) => SEARCH_FILE + end)]) rmSync(join(data, one), { force: true });
  });
}
