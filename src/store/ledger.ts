import type { Database } from './database.ts';

export interface Charge {
  at: number;
  domainId: number;
  mailboxId: number | null;
  journeyId: string;
  sends: number;
}

/** Charges an accepted message; in the transaction that accepts it. */
export function charge(db: Database, entry: Charge): void {
  db.run(
    'INSERT INTO ledger (at, domain_id, mailbox_id, journey_id, sends) VALUES (?, ?, ?, ?, ?)',
    entry.at,
    entry.domainId,
    entry.mailboxId,
    entry.journeyId,
    entry.sends,
  );
}

/** What was charged after `since`, oldest first, for the sliding windows. */
export const chargesSince = (db: Database, domainId: number, since: number) =>
  db.all<{ at: number; sends: number }>('SELECT at, sends FROM ledger WHERE domain_id = ? AND at > ? ORDER BY at, seq', domainId, since);

export const newestCharge = (db: Database): number => db.one<{ at: number | null }>('SELECT max(at) AS at FROM ledger')?.at ?? 0;

export interface LedgerLine {
  at: number;
  mailbox: string | null;
  journeyId: string;
  sends: number;
  subject: string | null;
}

export const listLedger = (db: Database, domainId: number, since: number, limit: number) =>
  db.all<LedgerLine>(
    `SELECT l.at, m.local || '@' || d.name AS mailbox, l.journey_id AS journeyId, l.sends, j.subject
     FROM ledger l JOIN domain d ON d.id = l.domain_id LEFT JOIN mailbox m ON m.id = l.mailbox_id LEFT JOIN journey j ON j.id = l.journey_id
     WHERE l.domain_id = ? AND l.at > ? ORDER BY l.at DESC, l.seq DESC LIMIT ?`,
    domainId,
    since,
    limit,
  );

/** Sends in each full hour (by UTC) after `since`; hours without any are left out. */
export const hourlySends = (db: Database, domainId: number, since: number) =>
  db.all<{ hour: number; sends: number }>(
    'SELECT at / 3600000 * 3600000 AS hour, sum(sends) AS sends FROM ledger WHERE domain_id = ? AND at > ? GROUP BY hour ORDER BY hour',
    domainId,
    since,
  );

/** Sends of each domain after `since`, for overviews; one pass over the ledger's index. */
export const sendsByDomain = (db: Database, domainIds: readonly number[], since: number): Map<number, number> =>
  new Map(
    domainIds.map((id) => [
      id,
      db.one<{ sends: number | null }>('SELECT sum(sends) AS sends FROM ledger WHERE domain_id = ? AND at > ?', id, since)?.sends ?? 0,
    ]),
  );
