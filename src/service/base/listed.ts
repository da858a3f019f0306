import { orderedInPieces } from '../../core/pieces.ts';

/** Which part of a list is asked for, in which order. */
export interface Asked<Order extends string = string> {
  /** Only rows with this in their words, in any case; empty for all. */
  search: string;
  sort: Order;
  reverse: boolean;
  offset: number;
  limit: number;
}

/** A part of a list, and how many rows the whole of it has. */
export interface Listed<Row> {
  total: number;
  rows: Row[];
}

/** What rows are put in order by: the smallest first. */
export type Orders<Row, Order extends string> = Record<Order, (row: Row) => string | number | null>;

const collator = new Intl.Collator('en', { numeric: true });

/** The part of a list that was asked for, where the whole is small enough to be at hand. */
export async function listed<Row, Order extends string>(
  all: readonly Row[],
  { search, sort, reverse, offset, limit }: Asked<Order>,
  words: (row: Row) => string,
  orders: Orders<Row, Order>,
): Promise<Listed<Row>> {
  const wanted = search.toLowerCase();
  const matching = wanted === '' ? all : all.filter((row) => words(row).toLowerCase().includes(wanted));
  const key = orders[sort];
  const turn = reverse ? -1 : 1;
  const found = await orderedInPieces(matching, (one, other) => turn * compare(key(one), key(other)));
  return { total: found.length, rows: found.slice(offset, offset + limit) };
}

/** What is not known comes last. */
function compare(one: string | number | null, other: string | number | null): number {
  if (one === null || other === null) return Number(one === null) - Number(other === null);
  return typeof one === 'string' ? collator.compare(one, String(other)) : one - Number(other);
}
