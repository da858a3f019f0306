import { chmodSync, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { MIGRATIONS } from './migrations.ts';

/** The data directory can't be used: in use elsewhere, or from a newer version. One sentence for the operator. */
export class StoreError extends Error {}

type Value = string | number | null | Buffer;
/** Values for `?` in their order, or one record for `@names`. */
type Values = Value[] | [Record<string, Value>];

/** Answers about domains (here and outside) that are kept. */
const MOST_ANSWERS = 200_000;

interface Job {
  work: () => unknown;
  resolve: (value: unknown) => void;
  reject: (error: unknown) => void;
}

/** The database of one data directory, held by one process; writes go through `commit`. */
export class Database {
  private readonly statements = new Map<string, SQLite.Statement>();
  /** Answers about domains and outlets, which every recipient asks for and few writes change. */
  private readonly answers = new Map<string, unknown>();
  private readonly changesAnswers = new Map<string, boolean>();
  private answersChanged = false;
  private waiting: Job[] = [];
  private soon: NodeJS.Immediate | null = null;
  private timer: NodeJS.Timeout | null = null;
  private closed = false;
  /** Told after each transaction that is on disk; set once, at the start. */
  onCommit: () => void = () => {};

  private constructor(
    private readonly sqlite: SQLite.Database,
    private readonly lock: SQLite.Database,
  ) {}

  /** Opens the data directory, brings the database up to date and takes the directory for this process. */
  static open(directory: string): Database {
    mkdirSync(directory, { recursive: true, mode: 0o700 });
    chmodSync(directory, 0o700);
    const lock = takeLock(directory);
    const path = join(directory, 'tenedor.db');
    const sqlite = new SQLite(path);
    chmodSync(path, 0o600);
    sqlite.pragma('journal_mode = WAL');
    sqlite.pragma('synchronous = FULL');
    sqlite.pragma('foreign_keys = ON');
    sqlite.pragma('cache_size = -65536');
    const version = sqlite.pragma('user_version', { simple: true }) as number;
    if (version > MIGRATIONS.length) {
      sqlite.close();
      lock.close();
      throw new StoreError(
        `The database in ${directory} has version ${version}; this Tenedor knows versions up to ${MIGRATIONS.length}. Use the newer Tenedor that wrote it.`,
      );
    }
    for (let at = version; at < MIGRATIONS.length; at += 1) {
      sqlite.transaction(() => {
        sqlite.exec(MIGRATIONS[at] ?? '');
        sqlite.pragma(`user_version = ${at + 1}`);
      })();
    }
    return new Database(sqlite, lock);
  }

  one<Row>(sql: string, ...values: Values): Row | undefined {
    return this.prepared(sql).get(...values) as Row | undefined;
  }

  all<Row>(sql: string, ...values: Values): Row[] {
    return this.prepared(sql).all(...values) as Row[];
  }

  /** A write; only inside `commit`. Returns the new row's id and the number of changed rows. */
  run(sql: string, ...values: Values): { id: number; changes: number } {
    if (!this.sqlite.inTransaction) throw new Error('a write outside of commit');
    const done = this.prepared(sql).run(...values);
    let changes = this.changesAnswers.get(sql);
    if (changes === undefined) {
      changes = /\b(?:INTO|UPDATE|FROM) (?:domain|customer|outlet)\b/.test(sql);
      this.changesAnswers.set(sql, changes);
    }
    if (changes) {
      this.answersChanged = true;
      this.answers.clear();
    }
    return { id: Number(done.lastInsertRowid), changes: done.changes };
  }

  /** An answer about domains, customers or outlets, by a name of its own; kept until one of those changes, so nobody may write to it. */
  kept<T>(name: string, read: () => T): T {
    if (this.answers.has(name)) return this.answers.get(name) as T;
    const answer = read();
    // What is read within a transaction that changes them may be undone.
    if (!this.answersChanged) {
      if (this.answers.size >= MOST_ANSWERS) this.answers.clear();
      this.answers.set(name, answer);
    }
    return answer;
  }

  /**
   * Runs `work` in the next transaction and resolves once that is on disk. Everything that waits at that moment shares
   * one transaction and one fsync; a piece of work that throws is rolled back alone. What nobody waits for may let some milliseconds pass
   * for others to join.
   */
  commit<T>(work: () => T, patienceMs = 0): Promise<T> {
    if (this.closed) return Promise.reject(new Error('the database is closed'));
    return new Promise<T>((resolve, reject) => {
      this.waiting.push({ work, resolve: resolve as (value: unknown) => void, reject });
      if (patienceMs > 0) this.timer ??= setTimeout(() => this.flush(), patienceMs);
      else this.soon ??= setImmediate(() => this.flush());
    });
  }

  /** Finishes what waits, then closes. */
  close(): void {
    this.flush();
    this.closed = true;
    this.sqlite.close();
    this.lock.close();
  }

  private flush(): void {
    if (this.soon) clearImmediate(this.soon);
    if (this.timer) clearTimeout(this.timer);
    this.soon = null;
    this.timer = null;
    const jobs = this.waiting;
    this.waiting = [];
    if (jobs.length === 0) return;
    const done: (() => void)[] = [];
    try {
      this.prepared('BEGIN').run();
      for (const { work, resolve, reject } of jobs) {
        this.prepared('SAVEPOINT piece').run();
        try {
          const value = work();
          done.push(() => resolve(value));
        } catch (error) {
          // A full disk or the like has undone everything already.
          if (!this.sqlite.inTransaction) throw error;
          this.prepared('ROLLBACK TO piece').run();
          done.push(() => reject(error));
        }
        this.prepared('RELEASE piece').run();
      }
      this.prepared('COMMIT').run();
    } catch (error) {
      if (this.sqlite.inTransaction) this.prepared('ROLLBACK').run();
      this.settled();
      for (const { reject } of jobs) reject(error);
      return;
    }
    this.settled();
    for (const tell of done) tell();
    this.onCommit();
  }

  private settled(): void {
    if (this.answersChanged) this.answers.clear();
    this.answersChanged = false;
  }

  private prepared(sql: string): SQLite.Statement {
    let statement = this.statements.get(sql);
    if (!statement) {
      statement = this.sqlite.prepare(sql);
      this.statements.set(sql, statement);
    }
    return statement;
  }
}

/** Holds an exclusive lock for as long as the process lives; the system frees it whatever way the process ends. */
function takeLock(directory: string): SQLite.Database {
  const lock = new SQLite(join(directory, 'lock.db'), { timeout: 0 });
  try {
    lock.exec('BEGIN EXCLUSIVE');
  } catch (error) {
    lock.close();
    if ((error as { code?: string }).code === 'SQLITE_BUSY')
      throw new StoreError(
        `The data directory ${directory} is in use by another running Tenedor. Stop that one, or give this one a directory of its own.`,
      );
    throw error;
  }
  return lock;
}
