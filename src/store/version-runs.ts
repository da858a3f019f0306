import type { Database } from './database.ts';

/** A version of the program that has run on this data. */
export interface VersionRun {
  version: string;
  databaseVersion: number;
  since: number;
}

/** The newest first. */
export const listVersionRuns = (db: Database): VersionRun[] =>
  db.all<VersionRun>('SELECT version, database_version AS databaseVersion, since FROM version_run ORDER BY id DESC');

const MOST_KEPT = 200;

/** Notes the version that runs now, where it is another one than before. */
export function noteVersionRun(db: Database, version: string, now: number, databaseVersion = db.version()): void {
  if (listVersionRuns(db)[0]?.version === version) return;
  const id = db.nextNumber('version_run');
  db.run('INSERT INTO version_run (id, version, database_version, since) VALUES (?, ?, ?, ?)', id, version, databaseVersion, now);
  db.run('DELETE FROM version_run WHERE id <= ?', id - MOST_KEPT);
}
