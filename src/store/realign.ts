import type { Database } from './database.ts';

/** How many charges are dated after a time. */
export const countAfter = (db: Database, now: number): number =>
  db.one<{ n: number }>(
    `SELECT (SELECT count(*) FROM ledger WHERE at > @now)
       + (SELECT count(*) FROM outlet o CROSS JOIN outlet_charge c ON c.outlet_id = o.id AND c.at > @now) AS n`,
    { now },
  )?.n ?? 0;

/**
 * Brings what was dated after `now` back by `ms`: charges stay in their order and none before the last one with a plausible date, and what waits is due
 * as soon as it would have been. No charge is added, lost or changed in its amount. Returns how many charges were dated anew.
 */
export function bringBack(db: Database, now: number, ms: number): number {
  let charges = 0;
  for (const table of ['ledger', 'outlet_charge']) {
    const floor = db.one<{ at: number | null }>(`SELECT max(at) AS at FROM ${table} WHERE at <= ?`, now)?.at ?? 0;
    charges += db.run(`UPDATE ${table} SET at = min(?, max(?, at - ?)) WHERE at > ?`, now, floor, ms, now).changes;
  }
  db.run(
    'UPDATE recipient SET next_attempt_at = max(0, next_attempt_at - ?), held_at = held_at - ? WHERE next_attempt_at IS NOT NULL',
    ms,
    ms,
  );
  db.run('UPDATE webhook_call SET next_attempt_at = max(0, next_attempt_at - ?) WHERE next_attempt_at IS NOT NULL', ms);
  db.run('UPDATE limit_warning SET at = at - ? WHERE at > ?', ms, now);
  db.run('UPDATE check_result SET next_at = 0 WHERE next_at > ?', now);
  db.run('UPDATE host_check SET next_at = 0 WHERE next_at > ?', now);
  db.run('DELETE FROM sign_in_failure');
  return charges;
}
