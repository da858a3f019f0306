import type SQLite from 'better-sqlite3';

/** The statements of one connection, each prepared once. */
export class Statements {
  private readonly known = new Map<string, SQLite.Statement>();

  constructor(private readonly sqlite: SQLite.Database) {}

  of(sql: string): SQLite.Statement {
    let statement = this.known.get(sql);
    if (!statement) {
      statement = this.sqlite.prepare(sql);
      this.known.set(sql, statement);
    }
    return statement;
  }
}
