import type { Place } from '../../core/cursor.ts';
import { orderedInPieces } from '../../core/pieces.ts';
import type { Page, PageAsked } from '../../store/page.ts';

/** Which part of a list is asked for, in which order; a search is for a row's words, in any case. */
export interface Asked<Order extends string = string> extends PageAsked {
  sort: Order;
}

export type Listed<Row> = Page<Row>;

/** What rows are put in order by: the smallest first. */
export type Orders<Row, Order extends string> = Record<Order, (row: Row) => string | number | null>;

const collator = new Intl.Collator('en', { numeric: true });
/** As many characters of a row's words tell it from others with the same key. */
const TIE_LENGTH = 100;

/** The part of a list that was asked for, where the whole is small enough to be at hand. */
export async function listed<Row, Order extends string>(
  all: readonly Row[],
  { search, sort, reverse, offset, limit, after = null }: Asked<Order>,
  words: (row: Row) => string,
  orders: Orders<Row, Order>,
): Promise<Listed<Row>> {
  const wanted = search.toLowerCase();
  const matching = wanted === '' ? all : all.filter((row) => words(row).toLowerCase().includes(wanted));
  const direction = reverse ? -1 : 1;
  const compare = (one: Place, other: Place): number =>
    direction * (compareKeys(one[0], other[0]) || compareTexts(String(one[1]), String(other[1])));
  const found = await orderedInPieces(
    matching.map((row): Placed<Row> => ({ row, place: [orders[sort](row), words(row).slice(0, TIE_LENGTH), 0] })),
    (one, other) => compare(one.place, other.place),
  );
  // Rows that look the same are told apart by their number.
  for (const [index, one] of found.entries()) {
    const before = found[index - 1]?.place;
    if (before && compare(before, one.place) === 0) one.place[2] = before[2] + 1;
  }
  const behind = after === null ? 0 : found.findIndex(({ place }) => (compare(place, after) || place[2] - Number(after[2])) > 0);
  const start = (behind === -1 ? found.length : behind) + offset;
  const page = found.slice(start, start + limit);
  return {
    total: found.length,
    rows: page.map((one) => one.row),
    next: start + limit < found.length ? (page.at(-1)?.place ?? null) : null,
  };
}

interface Placed<Row> {
  row: Row;
  place: [Place[number], string, number];
}

const compareTexts = (one: string, other: string): number => (one < other ? -1 : Number(one > other));

/** What is not known comes last. */
function compareKeys(one: Place[number] = null, other: Place[number] = null): number {
  if (one === null || other === null) return Number(one === null) - Number(other === null);
  return typeof one === 'string' || typeof other === 'string' ? collator.compare(String(one), String(other)) : one - other;
}
