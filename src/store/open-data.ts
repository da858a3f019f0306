import { createHash } from 'node:crypto';
import { chmodSync, closeSync, existsSync, openSync, readdirSync, readSync, statSync } from 'node:fs';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { makeFolder } from './make-folder.ts';
import { KNOWN_TABLES, MIGRATIONS } from './migrations.ts';

/** The data directory can't be used: in use elsewhere, damaged, or from a newer version. One sentence for the operator. */
export class StoreError extends Error {}

/** What the system says, in words that tell an operator where to look. */
const REASONS: Record<string, string> = {
  ENOENT: 'it does not exist',
  EACCES: 'this user may not use it',
  EPERM: 'this user may not use it',
  EROFS: 'the file system is read-only, or the unit does not let the service write there (ReadWritePaths, by systemctl edit tenedor)',
  ENOSPC: 'the disk is full',
  EDQUOT: 'the disk quota of this user is used up',
  ENOTDIR: 'it is a file, not a directory',
  EEXIST: 'it is a file, not a directory',
  EISDIR: 'it is a directory, not a file',
  ELOOP: 'its symbolic links form a loop',
  EMFILE: 'too many files are open',
  EIO: 'the disk reports an error',
  SQLITE_NOTADB: 'it is not a database',
  SQLITE_CORRUPT: 'it is damaged',
  SQLITE_READONLY: 'it is read-only',
  SQLITE_CANTOPEN: 'it can’t be opened',
  SQLITE_FULL: 'the disk is full',
  // The file that connections share can’t grow.
  SQLITE_IOERR_SHMSIZE: 'the disk is full',
  SQLITE_PERM: 'this user may not use it',
};

export function reasonOf(error: unknown): string {
  const { code, message } = error as { code?: string; message?: string };
  if (code === undefined) return String(message);
  const known = Object.keys(REASONS).find((one) => code === one || code.startsWith(`${one}_`));
  return known === undefined ? `${message} (${code})` : `${REASONS[known]} (${code})`;
}

/** Runs a step of the start; what the system or the database says becomes one sentence about `what`. */
export function startStep<T>(what: string, work: () => T, remedy = ''): T {
  try {
    return work();
  } catch (error) {
    if (error instanceof StoreError) throw error;
    const reason = reasonOf(error);
    // A backup does not help where there is no room for it either.
    const advice = reason.startsWith(REASONS['ENOSPC'] ?? '') ? 'Free some space; nothing is lost.' : remedy;
    throw new StoreError(`${what} can’t be used: ${reason}.${advice === '' ? '' : ` ${advice}`}`);
  }
}

/** Makes the data directory, or takes the one that is there. */
export function openDirectory(directory: string): void {
  startStep(`The data directory ${directory}`, () => {
    makeFolder(directory, 0o700);
    if (!statSync(directory).isDirectory()) throw new StoreError(`The data directory ${directory} can’t be used: it is a file.`);
    chmodSync(directory, 0o700);
    if (readdirSync(directory).includes('restoring.json'))
      throw new StoreError(`A restore into ${directory} was not finished. Run it again: tenedor restore SOURCE --config FILE`);
  });
}

/** Whether a Tenedor runs on a data directory. */
export function isInUse(directory: string): boolean {
  const path = join(directory, 'lock.db');
  if (!existsSync(path)) return false;
  try {
    const lock = new SQLite(path, { timeout: 0 });
    try {
      lock.exec('BEGIN EXCLUSIVE; ROLLBACK');
      return false;
    } catch (error) {
      return (error as { code?: string }).code === 'SQLITE_BUSY';
    } finally {
      lock.close();
    }
  } catch {
    return false;
  }
}

/** Holds an exclusive lock for as long as the process lives; the system frees it whatever way the process ends. */
export function takeLock(directory: string): SQLite.Database {
  const path = join(directory, 'lock.db');
  return startStep(
    `The lock ${path}`,
    () => {
      const lock = new SQLite(path, { timeout: 0 });
      try {
        lock.exec('BEGIN EXCLUSIVE');
        return lock;
      } catch (error) {
        lock.close();
        if ((error as { code?: string }).code === 'SQLITE_BUSY')
          throw new StoreError(
            `The data directory ${directory} is in use by another running Tenedor. Stop the other one, or use another directory.`,
          );
        throw error;
      }
    },
    'It is empty: if no Tenedor uses this directory, delete it.',
  );
}

const BACKUP = 'Restore it from a backup.';

/** Opens the database and brings it up to date; refuses one that is missing, damaged, of a newer version, or not what its version says. */
export function openDatabase(directory: string): SQLite.Database {
  const path = join(directory, 'tenedor.db');
  refuseMissing(directory, path);
  refuseCut(path);
  const sqlite = startStep(`The database ${path}`, () => new SQLite(path), BACKUP);
  try {
    startStep(
      `The database ${path}`,
      () => {
        chmodSync(path, 0o600);
        // Space that rows give back can be given back to the disk, a little at a time. Counts for a database that is made now.
        sqlite.pragma('auto_vacuum = INCREMENTAL');
        sqlite.pragma('journal_mode = WAL');
        sqlite.pragma('synchronous = FULL');
        sqlite.pragma('foreign_keys = ON');
        // What a savepoint keeps of changed pages needs no file.
        sqlite.pragma('temp_store = MEMORY');
        sqlite.pragma('cache_size = -65536');
        // What a burst has left behind is not kept for ever.
        sqlite.pragma(`journal_size_limit = ${64 * 1024 * 1024}`);
      },
      BACKUP,
    );
    const version = sqlite.pragma('user_version', { simple: true }) as number;
    if (version > MIGRATIONS.length)
      throw new StoreError(
        `The database in ${directory} has version ${version}; this Tenedor knows versions up to ${MIGRATIONS.length}. Use the newer Tenedor that wrote it.`,
      );
    if (digestOf(schemaOf(sqlite)) !== (version === KNOWN_TABLES.version ? KNOWN_TABLES.digest : tablesOf(version)))
      throw new StoreError(
        `The database ${path} claims version ${version}, but its tables differ: another program has changed it, or an upgrade was interrupted. ${BACKUP}`,
      );
    startStep(`The database ${path}`, () => upgrade(sqlite, version), 'Nothing of it was changed.');
    makeGiveBack(sqlite);
    // The words of the search, to be read in their order; it holds nothing.
    sqlite.exec("CREATE VIRTUAL TABLE temp.journey_word USING fts5vocab('main', 'journey_words', 'instance')");
    return sqlite;
  } catch (error) {
    sqlite.close();
    throw error;
  }
}

function upgrade(sqlite: SQLite.Database, from: number): void {
  for (let at = from; at < MIGRATIONS.length; at += 1)
    sqlite.transaction(() => {
      sqlite.exec(MIGRATIONS[at] ?? '');
      sqlite.pragma(`user_version = ${at + 1}`);
    })();
}

const INCREMENTAL = 2;
/** Rewriting a database takes a second for some hundred MiB; a larger one keeps its free pages for itself. */
const LARGEST_REWRITTEN = 512 * 1024 * 1024;

/** A database that an early version made is rewritten once, so that it can give space back. */
function makeGiveBack(sqlite: SQLite.Database): void {
  if (sqlite.pragma('auto_vacuum', { simple: true }) === INCREMENTAL) return;
  const size = (sqlite.pragma('page_count', { simple: true }) as number) * (sqlite.pragma('page_size', { simple: true }) as number);
  if (size > LARGEST_REWRITTEN) return;
  try {
    sqlite.pragma('auto_vacuum = INCREMENTAL');
    sqlite.exec('VACUUM');
  } catch {
    // Without room for a second copy it stays as it is, and is tried again at the next start.
  }
}

/** A missing database beside message files is no first start: as a new one it would have nothing that needs them. */
function refuseMissing(directory: string, path: string): void {
  const isThere = existsSync(path);
  if (isThere && startStep(`The database ${path}`, () => !statSync(path).isFile()))
    throw new StoreError(`The database ${path} can’t be used: it is not a file. ${BACKUP}`);
  if (isThere && statSync(path).size > 0) return;
  const messages = join(directory, 'messages');
  const holds = (folder: string): boolean => {
    try {
      return readdirSync(folder, { withFileTypes: true }).some((one) => one.isFile() && /^[0-9a-f]{62}([0-9a-f]{2})?$/.test(one.name));
    } catch {
      return false;
    }
  };
  const folders = existsSync(messages) ? startStep(`The folder ${messages}`, () => readdirSync(messages)) : [];
  if (!folders.some((one) => holds(join(messages, one)))) return;
  throw new StoreError(
    `The database ${path} is ${isThere ? 'empty' : 'missing'}, but ${messages} holds messages. Restore the database from a backup; or move that directory away to start from scratch.`,
  );
}

const PAGES_AT = 28;
const PAGE_SIZE_AT = 16;

/** A file that is shorter than its header says lacks rows somewhere; what is not yet in it is in the log beside it (SQLite file format §1.3). */
function refuseCut(path: string): void {
  if (!existsSync(path) || (existsSync(`${path}-wal`) && statSync(`${path}-wal`).size > 0)) return;
  const { size } = statSync(path);
  if (size === 0) return;
  const head = Buffer.alloc(100);
  startStep(
    `The database ${path}`,
    () => {
      const file = openSync(path, 'r');
      try {
        readSync(file, head, 0, head.length, 0);
      } finally {
        closeSync(file);
      }
    },
    BACKUP,
  );
  const pageSize = head.readUInt16BE(PAGE_SIZE_AT) === 1 ? 65_536 : head.readUInt16BE(PAGE_SIZE_AT);
  if (head.toString('latin1', 0, 15) === 'SQLite format 3' && size < pageSize * head.readUInt32BE(PAGES_AT))
    throw new StoreError(`The database ${path} is truncated: ${size} bytes of ${pageSize * head.readUInt32BE(PAGES_AT)}. ${BACKUP}`);
}

/** Tables, indexes and triggers as they were written, whatever the spaces. */
const schemaOf = (sqlite: SQLite.Database): string =>
  (
    sqlite.prepare("SELECT sql FROM sqlite_master WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%' ORDER BY type, name").all() as {
      sql: string;
    }[]
  )
    .map((row) => row.sql.replace(/\s+/g, ' '))
    .join('\n');

const digestOf = (schema: string): string => createHash('sha256').update(schema).digest('hex');

/** The digest of the tables of a version, found by making them. */
export function tablesOf(version: number): string {
  const made = new SQLite(':memory:');
  for (const migration of MIGRATIONS.slice(0, version)) made.exec(migration);
  const digest = digestOf(schemaOf(made));
  made.close();
  return digest;
}
