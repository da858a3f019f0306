import type { Database } from './database.ts';

/** A request with a key of its own: what it was, and its sealed answer once there is one. */
export interface AnsweredRequest {
  request: Buffer;
  answer: string | null;
}

export const findAnswered = (db: Database, accountId: number, key: string) =>
  db.one<AnsweredRequest>('SELECT request, answer FROM answered_request WHERE account_id = ? AND key = ?', accountId, key);
export const countAnswered = (db: Database, accountId: number): number =>
  db.one<{ n: number }>('SELECT count(*) AS n FROM answered_request WHERE account_id = ?', accountId)?.n ?? 0;
export const noteRequest = (db: Database, accountId: number, key: string, request: Buffer, at: number) =>
  db.run('INSERT INTO answered_request (account_id, key, request, at) VALUES (?, ?, ?, ?)', accountId, key, request, at);
export const keepAnswer = (db: Database, accountId: number, key: string, answer: string) =>
  db.run('UPDATE answered_request SET answer = ? WHERE account_id = ? AND key = ?', answer, accountId, key);
export const forgetRequest = (db: Database, accountId: number, key: string) =>
  db.run('DELETE FROM answered_request WHERE account_id = ? AND key = ?', accountId, key);
/** Forgets a request that has this answer: not one that took its key since. */
export const forgetAnswer = (db: Database, accountId: number, key: string, answer: string | null) =>
  db.run('DELETE FROM answered_request WHERE account_id = ? AND key = ? AND answer = ?', accountId, key, answer);
/** Forgets some that are older; tells how many. */
export const forgetAnswered = (db: Database, before: number, most: number): number =>
  db.run(
    'DELETE FROM answered_request WHERE (account_id, key) IN (SELECT account_id, key FROM answered_request WHERE at < ? LIMIT ?)',
    before,
    most,
  ).changes;
