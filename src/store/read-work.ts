import SQLite from 'better-sqlite3';
import type { LongRead } from './long-reads.ts';

/** What the thread for long reads does: a connection of its own, which can only read, sees what is committed, and keeps nobody waiting but who asks. */
export function readWork({ file }: { file: string }): { answer: (read: LongRead) => unknown[]; close: () => void } {
  const db = new SQLite(file, { readonly: true });
  const statements = new Map<string, SQLite.Statement>();
  return {
    answer: ({ sql, values }) => {
      let statement = statements.get(sql);
      if (!statement) {
        statement = db.prepare(sql);
        statements.set(sql, statement);
      }
      return statement.all(...values);
    },
    close: () => db.close(),
  };
}
