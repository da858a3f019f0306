import type { Rehearsal } from '../core/rehearsal/rehearsal.ts';
import type { Database } from './database.ts';

/** So many are kept. */
const MOST_KEPT = 500;

type Row = Omit<Rehearsal, 'isGood' | 'ways'> & { isGood: number; ways: string };
const COLUMNS = 'id, kind, subject, recipient, witness, at, is_good AS isGood, ways';
const read = (row: Row): Rehearsal => ({ ...row, isGood: row.isGood === 1, ways: JSON.parse(row.ways) });

/** Keeps one, and forgets the oldest; returns its number. */
export function keepRehearsal(db: Database, { kind, subject, recipient, witness, at, isGood, ways }: Omit<Rehearsal, 'id'>): number {
  const id = db.nextNumber('rehearsal');
  db.run(
    'INSERT INTO rehearsal (id, kind, subject, recipient, witness, at, is_good, ways) VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
    id,
    kind,
    subject,
    recipient,
    witness,
    at,
    isGood ? 1 : 0,
    JSON.stringify(ways),
  );
  db.run('DELETE FROM rehearsal WHERE id <= ?', id - MOST_KEPT);
  return id;
}

export function findRehearsal(db: Database, id: number): Rehearsal | undefined {
  const row = db.one<Row>(`SELECT ${COLUMNS} FROM rehearsal WHERE id = ?`, id);
  return row && read(row);
}

/** The one before, about the same and from the same place. */
export function rehearsalBefore(
  db: Database,
  { kind, subject, recipient, witness, id }: Pick<Rehearsal, 'kind' | 'subject' | 'recipient' | 'witness' | 'id'>,
): Rehearsal | undefined {
  const row = db.one<Row>(
    `SELECT ${COLUMNS} FROM rehearsal WHERE kind = ? AND subject = ? AND recipient IS ? AND witness IS ? AND id < ? ORDER BY id DESC LIMIT 1`,
    kind,
    subject,
    recipient,
    witness,
    id,
  );
  return row && read(row);
}

export const listRehearsals = (db: Database): Omit<Rehearsal, 'ways'>[] =>
  db
    .all<Omit<Row, 'ways'>>('SELECT id, kind, subject, recipient, witness, at, is_good AS isGood FROM rehearsal ORDER BY id DESC')
    .map((one) => ({ ...one, isGood: one.isGood === 1 }));
