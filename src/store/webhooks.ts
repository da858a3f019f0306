import type { Database } from './database.ts';

/** An address that is told of events; its secret never leaves the service. */
export interface Webhook {
  id: number;
  url: string;
  events: string[];
  createdAt: number;
  /** The last call: what came back, and when it is tried again if it failed. */
  lastAt: number | null;
  lastAnswer: string | null;
  waiting: number;
}

type Row = Omit<Webhook, 'events'> & { events: string };
const WEBHOOK = `SELECT w.id, w.url, w.events, w.created_at AS createdAt,
  (SELECT at FROM webhook_call c WHERE c.webhook_id = w.id ORDER BY c.id DESC LIMIT 1) AS lastAt,
  (SELECT answer FROM webhook_call c WHERE c.webhook_id = w.id AND answer IS NOT NULL ORDER BY c.id DESC LIMIT 1) AS lastAnswer,
  (SELECT count(*) FROM webhook_call c WHERE c.webhook_id = w.id AND next_attempt_at IS NOT NULL) AS waiting FROM webhook w`;
const fromRow = (row: Row): Webhook => ({ ...row, events: JSON.parse(row.events) });

export const listWebhooks = (db: Database): Webhook[] => db.all<Row>(`${WEBHOOK} ORDER BY w.id`).map(fromRow);
export function findWebhook(db: Database, id: number): Webhook | undefined {
  const row = db.one<Row>(`${WEBHOOK} WHERE w.id = ?`, id);
  return row && fromRow(row);
}
export const addWebhook = (db: Database, values: { url: string; secret: string; events: readonly string[] }, now: number): number =>
  db.run(
    'INSERT INTO webhook (id, url, secret, events, created_at) VALUES (?, ?, ?, ?, ?)',
    db.nextNumber('webhook'),
    values.url,
    values.secret,
    JSON.stringify(values.events),
    now,
  ).id;
export const removeWebhook = (db: Database, id: number): boolean => db.run('DELETE FROM webhook WHERE id = ?', id).changes > 0;

export interface WebhookCall {
  id: number;
  webhookId: number;
  url: string;
  secret: string;
  at: number;
  event: string;
  body: string;
  attempts: number;
}
export const addCall = (db: Database, webhookId: number, call: { at: number; event: string; body: string; dueAt: number }): number =>
  db.run(
    'INSERT INTO webhook_call (id, webhook_id, at, event, body, next_attempt_at) VALUES (?, ?, ?, ?, ?, ?)',
    db.nextNumber('webhook_call'),
    webhookId,
    call.at,
    call.event,
    call.body,
    call.dueAt,
  ).id;
/** Webhooks with a call that is due, the longest waiting first. */
export const dueWebhooks = (db: Database, now: number, limit: number): number[] =>
  db
    .all<{ id: number }>(
      'SELECT webhook_id AS id FROM webhook_call WHERE next_attempt_at <= ? GROUP BY webhook_id ORDER BY min(next_attempt_at) LIMIT ?',
      now,
      limit,
    )
    .map((row) => row.id);
/** The call of a webhook that is due the longest. */
export const dueCall = (db: Database, webhookId: number, now: number) =>
  db.one<WebhookCall>(
    `SELECT c.id, c.webhook_id AS webhookId, w.url, w.secret, c.at, c.event, c.body, c.attempts FROM webhook_call c JOIN webhook w ON w.id = c.webhook_id
     WHERE c.webhook_id = ? AND c.next_attempt_at <= ? ORDER BY c.next_attempt_at, c.id LIMIT 1`,
    webhookId,
    now,
  );
export const nextCall = (db: Database): number | null =>
  db.one<{ at: number | null }>('SELECT min(next_attempt_at) AS at FROM webhook_call WHERE next_attempt_at IS NOT NULL')?.at ?? null;
export const noteCall = (db: Database, id: number, answer: string, nextAttemptAt: number | null) =>
  db.run('UPDATE webhook_call SET attempts = attempts + 1, answer = ?, next_attempt_at = ? WHERE id = ?', answer, nextAttemptAt, id);
export const forgetCalls = (db: Database, before: number) =>
  db.run('DELETE FROM webhook_call WHERE at < ? AND next_attempt_at IS NULL', before);
/** Sealed. */
export const webhookSecret = (db: Database, id: number): string =>
  db.one<{ secret: string }>('SELECT secret FROM webhook WHERE id = ?', id)?.secret ?? '';
