import type { StopKind } from '../core/vocabulary.ts';
import type { Database } from './database.ts';

export type StopScope = 'customer' | 'domain' | 'mailbox';

/** What keeps a customer, domain or mailbox from sending or receiving. */
export interface Stop {
  scope: StopScope;
  scopeId: number;
  kind: StopKind;
  sending: boolean;
  receiving: boolean;
  /** What senders and users are told. */
  text: string;
  figures: Record<string, unknown>;
  at: number;
}

type Row = Omit<Stop, 'figures' | 'sending' | 'receiving'> & { figures: string; sending: number; receiving: number };
const COLUMNS = 'scope, scope_id AS scopeId, kind, sending, receiving, text, figures, at';
const fromRow = (row: Row): Stop => ({
  ...row,
  sending: row.sending === 1,
  receiving: row.receiving === 1,
  figures: JSON.parse(row.figures),
});

export const listStops = (db: Database): Stop[] => db.all<Row>(`SELECT ${COLUMNS} FROM stop ORDER BY at DESC`).map(fromRow);
export function setStop(db: Database, stop: Stop): void {
  db.run(
    `INSERT INTO stop (scope, scope_id, kind, sending, receiving, text, figures, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT DO UPDATE SET sending = excluded.sending, receiving = excluded.receiving, text = excluded.text, figures = excluded.figures, at = excluded.at`,
    stop.scope,
    stop.scopeId,
    stop.kind,
    stop.sending ? 1 : 0,
    stop.receiving ? 1 : 0,
    stop.text,
    JSON.stringify(stop.figures),
    stop.at,
  );
}
export const dropStop = (db: Database, scope: StopScope, id: number, kind: StopKind): boolean =>
  db.run('DELETE FROM stop WHERE scope = ? AND scope_id = ? AND kind = ?', scope, id, kind).changes > 0;

/** A mailbox that sent far more than it usually does, as it was flagged last. */
export interface Unusual {
  mailboxId: number;
  mailbox: string;
  domain: string;
  at: number;
  sends: number;
  usual: number;
  threshold: number;
}
export const listUnusual = (db: Database): Unusual[] =>
  db.all<Unusual>(
    `SELECT u.mailbox_id AS mailboxId, m.local || '@' || d.name AS mailbox, d.name AS domain, u.at, u.sends, u.usual, u.threshold
     FROM unusual u CROSS JOIN mailbox m ON m.id = u.mailbox_id JOIN domain d ON d.id = m.domain_id ORDER BY u.at DESC`,
  );
export function flagUnusual(db: Database, flag: Omit<Unusual, 'mailbox' | 'domain'>): void {
  db.run(
    `INSERT INTO unusual (mailbox_id, at, sends, usual, threshold) VALUES (?, ?, ?, ?, ?)
     ON CONFLICT DO UPDATE SET at = excluded.at, sends = excluded.sends, usual = excluded.usual, threshold = excluded.threshold`,
    flag.mailboxId,
    flag.at,
    flag.sends,
    flag.usual,
    flag.threshold,
  );
}
export const unflagUnusual = (db: Database, mailboxId: number): boolean =>
  db.run('DELETE FROM unusual WHERE mailbox_id = ?', mailboxId).changes > 0;
