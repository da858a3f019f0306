import type { Order, UpkeepKind } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { type Page, type PageAsked, readPage } from './page.ts';
import type { Readable } from './read-database.ts';

export interface UpkeepRun {
  id: number;
  kind: UpkeepKind;
  /** Where backups lie; null for a look at what is stored. */
  target: string | null;
  /** Of the backup; null where none came of it. */
  name: string | null;
  isByHand: boolean;
  startedAt: number;
  /** Null while it is under way. */
  endedAt: number | null;
  isGood: boolean | null;
  /** What came of it, in words. */
  outcome: string;
}

type Row = Omit<UpkeepRun, 'isByHand' | 'isGood'> & { isByHand: number; isGood: number | null };
const COLUMNS = 'id, kind, target, name, by_hand AS isByHand, started_at AS startedAt, ended_at AS endedAt, is_good AS isGood, outcome';
const read = (row: Row): UpkeepRun => ({ ...row, isByHand: row.isByHand === 1, isGood: row.isGood === null ? null : row.isGood === 1 });
/** So many are kept. */
const MOST_KEPT = 1000;

export function beginRun(db: Database, run: Pick<UpkeepRun, 'kind' | 'target' | 'name' | 'isByHand' | 'startedAt'>): number {
  const id = db.nextNumber('upkeep_run');
  db.run(
    'INSERT INTO upkeep_run (id, kind, target, name, by_hand, started_at) VALUES (?, ?, ?, ?, ?, ?)',
    id,
    run.kind,
    run.target,
    run.name,
    run.isByHand ? 1 : 0,
    run.startedAt,
  );
  db.run('DELETE FROM upkeep_run WHERE id <= ?', id - MOST_KEPT);
  return id;
}

export const endRun = (db: Database, id: number, end: { name: string | null; at: number; isGood: boolean; outcome: string }): void => {
  db.run(
    'UPDATE upkeep_run SET name = coalesce(?, name), ended_at = ?, is_good = ?, outcome = ? WHERE id = ?',
    end.name,
    end.at,
    end.isGood ? 1 : 0,
    end.outcome,
    id,
  );
};

/** What was under way when the service stopped came to nothing. */
export const endBrokenRuns = (db: Database, at: number): void => {
  db.run(
    "UPDATE upkeep_run SET ended_at = ?, is_good = 0, outcome = 'The service stopped meanwhile; what was copied is not copied again.' WHERE ended_at IS NULL",
    at,
  );
};

/** The last of its kind that was good, or the last at all. */
export function lastRun(db: Readable, kind: UpkeepRun['kind'], onlyGood: boolean): UpkeepRun | null {
  const row = db.one<Row>(
    `SELECT ${COLUMNS} FROM upkeep_run WHERE kind = ? AND ended_at IS NOT NULL AND (? = 0 OR is_good = 1) ORDER BY id DESC LIMIT 1`,
    kind,
    onlyGood ? 1 : 0,
  );
  return row ? read(row) : null;
}

export const runUnderWay = (db: Readable) =>
  db.one<Pick<UpkeepRun, 'kind' | 'target' | 'name' | 'startedAt'>>(
    'SELECT kind, target, name, started_at AS startedAt FROM upkeep_run WHERE ended_at IS NULL ORDER BY id DESC LIMIT 1',
  );

/** When a backup was first tried; null where none was. */
export const firstRunAt = (db: Readable): number | null =>
  db.one<{ at: number | null }>("SELECT min(started_at) AS at FROM upkeep_run WHERE kind = 'backup'")?.at ?? null;

const ORDERS: Record<Order<'upkeepRuns'>, readonly string[]> = { at: ['id DESC'], outcome: ['is_good', 'id DESC'] };

export function pageOfRuns(db: Database, order: Order<'upkeepRuns'>, asked: PageAsked): Page<UpkeepRun> {
  const page = readPage<Row>(
    db,
    {
      columns: COLUMNS,
      from: 'upkeep_run',
      matches: "(kind LIKE @like ESCAPE '\\' OR coalesce(name, '') LIKE @like ESCAPE '\\' OR outcome LIKE @like ESCAPE '\\')",
      values: {},
      order: ORDERS[order],
    },
    asked,
  );
  return { ...page, rows: page.rows.map(read) };
}
