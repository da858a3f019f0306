import type SQLite from 'better-sqlite3';
import { LongReads } from './long-reads.ts';
import { openDatabase, openDirectory, takeLock } from './open-data.ts';
import { followRows, type RowChange, watchRows } from './row-changes.ts';
import { Statements } from './statements.ts';

type Value = string | number | null | Buffer;
/** Values for `?` in their order, or one record for `@names`. */
type Values = Value[] | [Record<string, Value>];

/** Answers about domains (here and outside) that are kept. */
const MOST_ANSWERS = 200_000;

/** Rows that are changed in one commit where there may be a hundred thousand: some ten milliseconds' worth. */
const A_PIECE = 500;

/** Rows that others know by their number. */
export type NumberedKind =
  | 'account'
  | 'api_token'
  | 'certificate'
  | 'rehearsal'
  | 'trial'
  | 'witness'
  | 'upkeep_run'
  | 'transfer'
  | 'version_run'
  | 'moved_address'
  | 'web_session'
  | 'customer'
  | 'plan'
  | 'domain'
  | 'mailbox'
  | 'app_password'
  | 'alias'
  | 'network'
  | 'outlet'
  | 'webhook'
  | 'webhook_call'
  | 'dkim_key'
  | 'dns_zone';

/** Who did something: by which account, token and face, from where. */
export interface Actor {
  account: string;
  /** The name of the token, null for a console session. */
  token: string | null;
  face: 'console' | 'api' | 'machine';
  address: string;
}

/** Who looks on while work is committed. */
export interface CommitWatch {
  /** Runs what keeps everybody waiting. */
  during<T>(what: string, work: () => T): T;
  failed(error: unknown): void;
  /** It can be written again, after it could not. */
  written(): void;
}

/** How a piece of work is committed. */
export interface CommitManner {
  /** What nobody waits for may let some milliseconds pass for others to join. */
  withinMs?: number;
  /** Whether the work may be done again from its beginning after it was undone: it changes nothing but the database, or begins by forgetting what it kept. */
  isRepeatable?: boolean;
}

interface Job {
  work: () => unknown;
  isRepeatable: boolean;
  resolve: (value: unknown) => void;
  reject: (error: unknown) => void;
}

/** The database of one data directory, held by one process; writes go through `commit`. */
export class Database {
  private readonly statements: Statements;
  /** Answers about domains and outlets, which every recipient asks for and few writes change. */
  private readonly answers = new Map<string, unknown>();
  private answersChanged = false;
  private waiting: Job[] = [];
  private soon: NodeJS.Immediate | null = null;
  private timer: NodeJS.Timeout | null = null;
  private closed = false;
  private hasFailed = false;
  watch: CommitWatch = { during: (_what, work) => work(), failed: () => {}, written: () => {} };
  /** Who asked for what is done here; null for the service itself. */
  readonly actor: Actor | null = null;
  /** What the piece of work under way has done to watched rows. */
  private noted: RowChange[] = [];
  /** Told after each transaction that is on disk, with what it did to watched rows; set once, at the start. */
  onCommit: (changes: readonly RowChange[]) => void = () => {};

  private constructor(
    private readonly sqlite: SQLite.Database,
    private readonly lock: SQLite.Database,
    private readonly longReads: LongReads,
  ) {
    this.statements = new Statements(sqlite);
    watchRows(sqlite, (change) => this.noted.push(change));
    followRows(sqlite, () => {
      this.answersChanged = true;
      this.answers.clear();
    });
  }

  /** Opens the data directory, brings the database up to date and takes the directory for this process. Throws StoreError, one sentence. */
  static open(directory: string): Database {
    openDirectory(directory);
    const lock = takeLock(directory);
    try {
      const sqlite = openDatabase(directory);
      return new Database(sqlite, lock, new LongReads(sqlite.name));
    } catch (error) {
      lock.close();
      throw error;
    }
  }

  one<Row>(sql: string, ...values: Values): Row | undefined {
    return this.statements.of(sql).get(...values) as Row | undefined;
  }

  all<Row>(sql: string, ...values: Values): Row[] {
    return this.statements.of(sql).all(...values) as Row[];
  }

  /** As `all`, for sums and lists that may take longer than others should wait: what is committed, read on another thread. */
  allSlowly<Row>(sql: string, ...values: Values): Promise<Row[]> {
    return this.longReads.all<Row>(sql, values);
  }

  /** A write; only inside `commit`. Returns the new row's id and the number of changed rows. */
  run(sql: string, ...values: Values): { id: number; changes: number } {
    if (!this.sqlite.inTransaction) throw new Error('a write outside of commit');
    const done = this.statements.of(sql).run(...values);
    return { id: Number(done.lastInsertRowid), changes: done.changes };
  }

  /** An answer about domains, customers, outlets or zones, by a name of its own; kept until one of those changes, so nobody may write to it. */
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
   * one transaction and one fsync; a piece of work that throws is rolled back alone.
   */
  commit<T>(work: () => T, { withinMs = 0, isRepeatable = false }: CommitManner = {}): Promise<T> {
    if (this.closed) return Promise.reject(new Error('the database is closed'));
    return new Promise<T>((resolve, reject) => {
      this.waiting.push({ work, isRepeatable, resolve: resolve as (value: unknown) => void, reject });
      if (withinMs > 0) this.timer ??= setTimeout(() => this.flush(), withinMs);
      else this.soon ??= setImmediate(() => this.flush());
    });
  }

  /** Does something to many rows, some in each commit, so that nobody waits for all of them; returns how many were changed. A crash leaves the rest undone. */
  async commitInPieces<Row>(rows: readonly Row[], act: (some: readonly Row[]) => number): Promise<number> {
    let changed = 0;
    for (let at = 0; at < rows.length; at += A_PIECE) changed += await this.commit(() => act(rows.slice(at, at + A_PIECE)));
    return changed;
  }

  /** A number that no row of that kind has had before, or will have again; only inside `commit`. */
  nextNumber(kind: NumberedKind): number {
    if (!this.sqlite.inTransaction) throw new Error('a write outside of commit');
    const sql = 'INSERT INTO number_given (kind, last) VALUES (?, 1) ON CONFLICT DO UPDATE SET last = last + 1 RETURNING last';
    return (this.statements.of(sql).get(kind) as { last: number }).last;
  }

  /** Which version its tables are of. */
  version(): number {
    return this.sqlite.pragma('user_version', { simple: true }) as number;
  }

  /** Pages that hold nothing. */
  freePages(): number {
    return this.sqlite.pragma('freelist_count', { simple: true }) as number;
  }

  /** Gives so many pages that hold nothing any more back to the disk. */
  giveBack(pages: number): void {
    this.sqlite.pragma(`incremental_vacuum(${pages})`);
  }

  /** The same database for work that somebody asked for: what it journals says who. */
  as(actor: Actor): Database {
    const acting = Object.create(this) as Database;
    // What writes to fields of its own must do that here.
    return Object.assign(acting, {
      actor,
      run: this.run.bind(this),
      kept: this.kept.bind(this),
      commit: this.commit.bind(this),
      nextNumber: this.nextNumber.bind(this),
      close: this.close.bind(this),
    });
  }

  /** Finishes what waits, then closes. */
  close(): void {
    this.flush();
    this.closed = true;
    this.longReads.close();
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
    if (jobs.length > 0)
      this.watch.during(jobs.length === 1 ? 'a commit' : `a commit of ${jobs.length} pieces`, () => this.commitAll(jobs));
  }

  private commitAll(jobs: readonly Job[]): void {
    const done: (() => void)[] = [];
    const changes: RowChange[] = [];
    try {
      this.statements.of('BEGIN').run();
      for (let at = 0; at < jobs.length; ) {
        // A savepoint copies each page that is changed after it: those that may be done again share one.
        let end = at + 1;
        while (jobs[at]?.isRepeatable && jobs[end]?.isRepeatable) end += 1;
        const some = jobs.slice(at, end);
        const isAll = some.length === jobs.length;
        if (!this.piece(some, done, changes, isAll) && some.length > 1) for (const one of some) this.piece([one], done, changes, false);
        at = end;
      }
      this.statements.of('COMMIT').run();
    } catch (error) {
      if (this.sqlite.inTransaction) this.statements.of('ROLLBACK').run();
      this.settled();
      this.hasFailed = true;
      this.watch.failed(error);
      for (const { reject } of jobs) reject(error);
      return;
    }
    this.settled();
    if (this.hasFailed) this.watch.written();
    this.hasFailed = false;
    // Who keeps something about a row hears of it before whoever changed it goes on.
    this.onCommit(changes);
    for (const tell of done) tell();
  }

  /** Does some jobs within one savepoint, or alone in the transaction; when one throws, all are undone, and a single one is told of it. */
  private piece(jobs: readonly Job[], done: (() => void)[], changes: RowChange[], isAll: boolean): boolean {
    if (!isAll) this.statements.of('SAVEPOINT piece').run();
    const told: (() => void)[] = [];
    let isDone = true;
    try {
      for (const { work, resolve } of jobs) {
        const value = work();
        told.push(() => resolve(value));
      }
      done.push(...told);
      changes.push(...this.noted);
    } catch (error) {
      // A full disk or the like has undone everything already.
      if (!this.sqlite.inTransaction) throw error;
      if (isAll) {
        this.statements.of('ROLLBACK').run();
        this.statements.of('BEGIN').run();
      } else this.statements.of('ROLLBACK TO piece').run();
      isDone = false;
      const [only, ...others] = jobs;
      if (others.length === 0) done.push(() => only?.reject(error));
    } finally {
      this.noted = [];
    }
    if (!isAll) this.statements.of('RELEASE piece').run();
    return isDone;
  }

  private settled(): void {
    if (this.answersChanged) this.answers.clear();
    this.answersChanged = false;
  }
}
