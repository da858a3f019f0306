import type { Database } from './database.ts';
import { fromQueueRow, QUEUE, type QueueItem, type QueueRow } from './queue.ts';

/** Where a due recipient stands in the order of waiting. */
export interface DueKey {
  id: number;
  domain: string;
  nextAttemptAt: number;
}

/** Due recipients, the longest waiting first, those after one that was read before; only what says whether to read more of them. */
export const listDueKeys = (db: Database, now: number, after: DueKey | null, limit: number): DueKey[] =>
  db.all<DueKey>(
    `SELECT id, domain, next_attempt_at AS nextAttemptAt FROM recipient
     WHERE next_attempt_at <= ? AND (next_attempt_at, id) > (?, ?) AND held IS NULL ORDER BY next_attempt_at, id LIMIT ?`,
    now,
    after?.nextAttemptAt ?? 0,
    after?.id ?? 0,
    limit,
  );
export const listDueItems = (db: Database, ids: readonly number[]): QueueItem[] =>
  db
    .all<QueueRow>(`${QUEUE} WHERE r.id IN (SELECT value FROM json_each(?)) ORDER BY r.next_attempt_at, r.id`, JSON.stringify(ids))
    .map(fromQueueRow);
/** Due recipients of one domain, the longest waiting first. */
export const listDueOf = (db: Database, domain: string, now: number, limit: number): QueueItem[] =>
  db
    .all<QueueRow>(
      `${QUEUE} WHERE r.domain = ? AND r.next_attempt_at <= ? AND r.held IS NULL ORDER BY r.next_attempt_at, r.id LIMIT ?`,
      domain,
      now,
      limit,
    )
    .map(fromQueueRow);
/** When the next recipient that is not due yet becomes due. */
export const nextDue = (db: Database, now: number): number | null =>
  db.one<{ at: number | null }>('SELECT min(next_attempt_at) AS at FROM recipient WHERE next_attempt_at > ? AND held IS NULL', now)?.at ??
  null;

/** Whether an item that was read some time ago still waits to be tried. */
export const stillDue = (db: Database, id: number): boolean =>
  db.one('SELECT 1 FROM recipient WHERE id = ? AND next_attempt_at IS NOT NULL AND held IS NULL', id) !== undefined;
