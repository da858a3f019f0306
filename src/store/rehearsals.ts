import type { Rehearsal } from '../core/rehearsal/rehearsal.ts';
import type { RehearsalKind } from '../core/vocabulary.ts';
import type { Database } from './database.ts';

/** So many are kept. */
const MOST_KEPT = 500;

type Row = Omit<Rehearsal, 'isGood' | 'ways'> & { isGood: number; ways: string };
const COLUMNS = 'id, kind, subject, at, is_good AS isGood, ways';
const read = (row: Row): Rehearsal => ({ ...row, isGood: row.isGood === 1, ways: JSON.parse(row.ways) });

/** Keeps one, and forgets the oldest; returns its number. */
export function keepRehearsal(db: Database, { kind, subject, at, isGood, ways }: Omit<Rehearsal, 'id'>): number {
  const id = db.nextNumber('rehearsal');
  db.run(
    'INSERT INTO rehearsal (id, kind, subject, at, is_good, ways) VALUES (?, ?, ?, ?, ?, ?)',
    id,
    kind,
    subject,
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

/** The one before, about the same. */
export function rehearsalBefore(db: Database, { kind, subject, id }: Pick<Rehearsal, 'kind' | 'subject' | 'id'>): Rehearsal | undefined {
  const row = db.one<Row>(
    `SELECT ${COLUMNS} FROM rehearsal WHERE kind = ? AND subject = ? AND id < ? ORDER BY id DESC LIMIT 1`,
    kind,
    subject,
    id,
  );
  return row && read(row);
}

export const listRehearsals = (db: Database): { id: number; kind: RehearsalKind; subject: string; at: number; isGood: boolean }[] =>
  db
    .all<{ id: number; kind: RehearsalKind; subject: string; at: number; isGood: number }>(
      'SELECT id, kind, subject, at, is_good AS isGood FROM rehearsal ORDER BY id DESC',
    )
    .map((one) => ({ ...one, isGood: one.isGood === 1 }));
