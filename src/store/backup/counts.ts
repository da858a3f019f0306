import type SQLite from 'better-sqlite3';
import type { BackupCounts } from '../../core/backup/manifest.ts';

/** How much is in a database, by which a copy is compared with it. */
export function countsIn(database: SQLite.Database): BackupCounts {
  const count = (sql: string): number => (database.prepare(sql).get() as { count: number }).count;
  return {
    domains: count('SELECT count(*) AS count FROM domain'),
    mailboxes: count('SELECT count(*) AS count FROM mailbox'),
    messages: count('SELECT count(*) AS count FROM message'),
    waiting: count('SELECT count(*) AS count FROM recipient WHERE next_attempt_at IS NOT NULL'),
  };
}
