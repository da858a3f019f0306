import type { Database } from './database.ts';

export interface KeptFailure {
  of: string;
  name: string;
  domain: string | null;
  failures: number;
  until: number;
  last: number;
}

export const keptFailures = (db: Database, guard: string) =>
  db.all<KeptFailure>('SELECT of, name, domain, failures, until, last FROM sign_in_failure WHERE guard = ? ORDER BY last', guard);
export const keepFailure = (db: Database, guard: string, one: KeptFailure) =>
  db.run(
    'INSERT OR REPLACE INTO sign_in_failure (guard, of, name, domain, failures, until, last) VALUES (?, ?, ?, ?, ?, ?, ?)',
    guard,
    one.of,
    one.name,
    one.domain,
    one.failures,
    one.until,
    one.last,
  );
export const dropFailure = (db: Database, guard: string, of: string, name: string) =>
  db.run('DELETE FROM sign_in_failure WHERE guard = ? AND of = ? AND name = ?', guard, of, name);
export const forgetFailures = (db: Database, before: number) => db.run('DELETE FROM sign_in_failure WHERE last < ?', before);

/** Where accounts signed in lately, the oldest first. */
export const keptPlaces = (db: Database, guard: string, most: number) =>
  db.all<{ account: string; place: string; at: number }>(
    'SELECT account, place, at FROM (SELECT account, place, at FROM sign_in_place WHERE guard = ? ORDER BY at DESC LIMIT ?) ORDER BY at',
    guard,
    most,
  );
export const keepPlace = (db: Database, guard: string, account: string, place: string, at: number) =>
  db.run('INSERT OR REPLACE INTO sign_in_place (guard, account, place, at) VALUES (?, ?, ?, ?)', guard, account, place, at);
export const forgetPlaces = (db: Database, before: number) => db.run('DELETE FROM sign_in_place WHERE at < ?', before);
