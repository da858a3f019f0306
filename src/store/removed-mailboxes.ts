import type { Database } from './database.ts';

/** A mailbox that was removed, and is kept for a while. */
export interface RemovedMailbox {
  id: number;
  /** As it was. */
  address: string;
  local: string;
  domain: string;
  removedAt: number;
  messages: number;
  usedBytes: number;
  /** The aliases that led to it. */
  aliases: string[];
}

type Row = Omit<RemovedMailbox, 'aliases'> & { aliases: string };
const fromRow = (row: Row): RemovedMailbox => ({ ...row, aliases: JSON.parse(row.aliases) });
const REMOVED = `SELECT m.id, m.removed_local || '@' || d.name AS address, m.removed_local AS local, d.name AS domain, m.removed_at AS removedAt,
  m.used_messages AS messages, m.used_bytes AS usedBytes, m.removed_aliases AS aliases
  FROM kept_mailbox m JOIN domain d ON d.id = m.domain_id WHERE m.removed_at IS NOT NULL`;

/** Those of a domain, the newest first. */
export const listRemoved = (db: Database, domainId: number): RemovedMailbox[] =>
  db.all<Row>(`${REMOVED} AND m.domain_id = ? ORDER BY m.removed_at DESC, m.id DESC`, domainId).map(fromRow);

export const findRemovedMailbox = (db: Database, id: number): RemovedMailbox | undefined =>
  db.all<Row>(`${REMOVED} AND m.id = ?`, id).map(fromRow)[0];

/** Some that were removed before a time. */
export const removedBefore = (db: Database, at: number): RemovedMailbox[] =>
  db.all<Row>(`${REMOVED} AND m.removed_at <= ? ORDER BY m.removed_at LIMIT 100`, at).map(fromRow);

/** A mailbox is gone for everybody, and its address is free; no address begins with a space. */
export const setAside = (db: Database, id: number, aliases: readonly string[], now: number) =>
  db.run(
    `UPDATE kept_mailbox SET removed_local = local, local = ' ' || id, removed_at = ?, removed_aliases = ? WHERE id = ? AND removed_at IS NULL`,
    now,
    JSON.stringify(aliases),
    id,
  );

/** It is there again, under its own address, which must be free. */
export const putBack = (db: Database, id: number) =>
  db.run(
    'UPDATE kept_mailbox SET local = removed_local, removed_local = NULL, removed_at = NULL, removed_aliases = NULL WHERE id = ? AND removed_at IS NOT NULL',
    id,
  );
