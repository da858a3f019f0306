import type { Database } from './database.ts';

/** A password of one device; of the password itself there is only a hash, which needs no slowness, since it carries more than 110 bits. */
export interface AppPassword {
  id: number;
  name: string;
  createdAt: number;
  usedAt: number | null;
  usedFrom: string | null;
  /** As the device said when it was used last (RFC 2971). */
  program: string | null;
}

const COLUMNS = 'id, name, created_at AS createdAt, used_at AS usedAt, used_from AS usedFrom, program';

export const listAppPasswords = (db: Database, mailboxId: number) =>
  db.all<AppPassword>(`SELECT ${COLUMNS} FROM app_password WHERE mailbox_id = ? ORDER BY name`, mailboxId);
export const findAppPassword = (db: Database, mailboxId: number, hash: string) =>
  db.one<AppPassword>(`SELECT ${COLUMNS} FROM app_password WHERE mailbox_id = ? AND hash = ?`, mailboxId, hash);
export const findAppPasswordNamed = (db: Database, mailboxId: number, name: string) =>
  db.one<AppPassword>(`SELECT ${COLUMNS} FROM app_password WHERE mailbox_id = ? AND name = ?`, mailboxId, name);
export const addAppPassword = (db: Database, mailboxId: number, { name, hash }: { name: string; hash: string }, now: number) =>
  db.run(
    'INSERT INTO app_password (id, mailbox_id, name, hash, created_at) VALUES (?, ?, ?, ?, ?)',
    db.nextNumber('app_password'),
    mailboxId,
    name,
    hash,
    now,
  );
/** Returns how many went. */
export const removeAppPasswordsOf = (db: Database, mailboxId: number): number =>
  db.run('DELETE FROM app_password WHERE mailbox_id = ?', mailboxId).changes;
export const countAppPasswords = (db: Database, mailboxId: number): number =>
  db.one<{ n: number }>('SELECT count(*) AS n FROM app_password WHERE mailbox_id = ?', mailboxId)?.n ?? 0;
export const removeAppPassword = (db: Database, id: number) => db.run('DELETE FROM app_password WHERE id = ?', id);
export const noteAppPasswordUsed = (db: Database, id: number, from: string, now: number) =>
  db.run('UPDATE app_password SET used_at = ?, used_from = ? WHERE id = ?', now, from, id);
export const noteAppPasswordProgram = (db: Database, id: number, program: string) =>
  db.run('UPDATE app_password SET program = ? WHERE id = ? AND program IS NOT ?', program, id, program);
