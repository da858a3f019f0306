import SQLite from 'better-sqlite3';
import { Statements } from './statements.ts';

/** The database in a data directory. */
export const DATABASE_FILE = 'tenedor.db';

export type Value = string | number | null | Buffer;

/** What reading needs: the service's own connection, or one that can only read. */
export interface Readable {
  one<Row>(sql: string, ...values: Value[]): Row | undefined;
  all<Row>(sql: string, ...values: Value[]): Row[];
}

/** What sums and lists need that may take long: the service reads them on a thread. */
export interface SlowlyReadable extends Readable {
  allSlowly<Row>(sql: string, ...values: Value[]): Promise<Row[]>;
}

/** A connection of a process that only reads: it sees what is committed, and holds up nobody (WAL). */
export class ReadDatabase implements SlowlyReadable {
  private readonly statements: Statements;

  private constructor(private readonly sqlite: SQLite.Database) {
    this.statements = new Statements(sqlite);
  }

  static open(file: string): ReadDatabase {
    const sqlite = new SQLite(file, { readonly: true });
    sqlite.pragma('cache_size = -32000');
    sqlite.pragma('mmap_size = 268435456');
    return new ReadDatabase(sqlite);
  }

  one<Row>(sql: string, ...values: Value[]): Row | undefined {
    return this.statements.of(sql).get(...values) as Row | undefined;
  }

  all<Row>(sql: string, ...values: Value[]): Row[] {
    return this.statements.of(sql).all(...values) as Row[];
  }

  /** Nobody waits in a process that only reads. */
  allSlowly<Row>(sql: string, ...values: Value[]): Promise<Row[]> {
    return Promise.resolve(this.all<Row>(sql, ...values));
  }

  version(): number {
    return this.sqlite.pragma('user_version', { simple: true }) as number;
  }

  close(): void {
    this.sqlite.close();
  }
}
