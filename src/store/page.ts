import type { Database } from './database.ts';

/** Which part of a table is read. */
export interface PageAsked {
  search: string;
  reverse: boolean;
  offset: number;
  limit: number;
}

interface Source {
  columns: string;
  from: string;
  /** What the condition needs of that, where it is less. */
  counted?: string;
  /** The condition; `@like` in it is what was searched for. */
  matches: string;
  values: Readonly<Record<string, string | number | null>>;
  /** Columns, each with DESC where it runs down. */
  order: readonly string[];
}

const turned = (column: string): string => (column.endsWith(' DESC') ? column.slice(0, -5) : `${column} DESC`);
/** The columns of an ORDER BY, or the other way round. */
export const orderBy = (order: readonly string[], reverse: boolean): string => (reverse ? order.map(turned) : order).join(', ');

/** A part of what a query finds, and how much that is in all. A search is for a text as it stands (LIKE … ESCAPE '\'). */
export function readPage<Row>(
  db: Database,
  { columns, from, counted = from, matches, values, order }: Source,
  { search, reverse, offset, limit }: PageAsked,
): { total: number; rows: Row[] } {
  const bound = { ...values, like: `%${search.replace(/[\\%_]/g, '\\$&')}%` };
  return {
    total: db.one<{ total: number }>(`SELECT count(*) AS total FROM ${counted} WHERE ${matches}`, bound)?.total ?? 0,
    rows: db.all<Row>(`SELECT ${columns} FROM ${from} WHERE ${matches} ORDER BY ${orderBy(order, reverse)} LIMIT @limit OFFSET @offset`, {
      ...bound,
      limit,
      offset,
    }),
  };
}
