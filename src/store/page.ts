import type { Place } from '../core/cursor.ts';
import type { Database } from './database.ts';

/** Which part of a table is read. */
export interface PageAsked {
  search: string;
  reverse: boolean;
  offset: number;
  limit: number;
  /** Only rows behind this place, whatever was removed before it. */
  after?: Place | null;
}

export interface Page<Row> {
  total: number;
  rows: Row[];
  /** The place of the last row; null at the end. */
  next: Place | null;
}

interface Source {
  columns: string;
  from: string;
  /** What the condition needs of that, where it is less. */
  counted?: string;
  /** The condition; `@like` in it is what was searched for. */
  matches: string;
  values: Readonly<Record<string, string | number | null>>;
  /** Expressions, each with DESC where it runs down; the last is unique. */
  order: readonly string[];
}

const isDown = (column: string): boolean => column.endsWith(' DESC');
const expression = (column: string): string => (isDown(column) ? column.slice(0, -5) : column);
const turned = (column: string): string => (isDown(column) ? expression(column) : `${column} DESC`);
const directed = (order: readonly string[], reverse: boolean): readonly string[] => (reverse ? order.map(turned) : order);

/** Rows behind a place in an order; SQLite puts NULL before everything. */
export function keyset(order: readonly string[], reverse: boolean, after: Place | null | undefined) {
  const columns = directed(order, reverse);
  const place = after ?? null;
  const behind = (index: number): string => {
    const column = columns[index];
    if (column === undefined) return 'false';
    const name = expression(column);
    const isNull = place?.[index] == null;
    const beyond = isDown(column)
      ? isNull
        ? 'false'
        : `(${name} < @after${index} OR ${name} IS NULL)`
      : isNull
        ? `${name} IS NOT NULL`
        : `${name} > @after${index}`;
    return `(${beyond} OR (${name} IS @after${index} AND ${behind(index + 1)}))`;
  };
  return {
    keys: columns.map((column, index) => `${expression(column)} AS after${index}`).join(', '),
    condition: place === null ? 'true' : behind(0),
    values: place === null ? {} : Object.fromEntries(columns.map((_column, index) => [`after${index}`, place[index] ?? null])),
    order: columns.join(', '),
    /** Splits one row more than was wanted into a page and the place of its end. */
    page<Row>(read: readonly Row[], limit: number): { rows: Row[]; next: Place | null } {
      const placeOf = (row: Row): Place =>
        columns.map((_column, index) => (row as Record<string, string | number | null>)[`after${index}`] ?? null);
      const last = read.length > limit ? read[limit - 1] : undefined;
      const next = last === undefined ? null : placeOf(last);
      const rows = read.slice(0, limit);
      for (const row of rows) for (const index of columns.keys()) delete (row as Record<string, unknown>)[`after${index}`];
      return { rows, next };
    },
  };
}

/** A part of what a query finds, and how much that is in all. A search is for a text as it stands (LIKE … ESCAPE '\'). */
export function readPage<Row>(
  db: Database,
  { columns, from, counted = from, matches, values, order }: Source,
  { search, reverse, offset, limit, after }: PageAsked,
): Page<Row> {
  const bound = { ...values, like: `%${search.replace(/[\\%_]/g, '\\$&')}%` };
  const set = keyset(order, reverse, after);
  const rows = db.all<Row>(
    `SELECT ${columns}, ${set.keys} FROM ${from} WHERE ${matches} AND ${set.condition} ORDER BY ${set.order} LIMIT @limit OFFSET @offset`,
    { ...bound, ...set.values, limit: limit + 1, offset },
  );
  return {
    total: db.one<{ total: number }>(`SELECT count(*) AS total FROM ${counted} WHERE ${matches}`, bound)?.total ?? 0,
    ...set.page(rows, limit),
  };
}
