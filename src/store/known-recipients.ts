import type { Database } from './database.ts';

/** While the primary is down, what it said this lately still counts. */
export const YES_KEPT_MS = 30 * 24 * 3_600_000;

export interface KnownRecipient {
  isThere: number;
  at: number;
}

export const findKnown = (db: Database, domainId: number, local: string) =>
  db.one<KnownRecipient>('SELECT is_there AS isThere, at FROM known_recipient WHERE domain_id = ? AND local = ?', domainId, local);
export const keepKnown = (db: Database, domainId: number, local: string, isThere: boolean, at: number) =>
  db.run(
    'INSERT INTO known_recipient (domain_id, local, is_there, at) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET is_there = excluded.is_there, at = excluded.at',
    domainId,
    local,
    isThere ? 1 : 0,
    at,
  );
export const forgetKnown = (db: Database, before: number) => db.run('DELETE FROM known_recipient WHERE at < ?', before);
