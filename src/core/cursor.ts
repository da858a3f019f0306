/** What a row is ordered by: the last value tells it from all others. */
export type Place = readonly (string | number | null)[];

const MOST_LENGTH = 4000;

/** Where the next page of a list begins, as a client hands it back; it holds the order, so it can't be used with another. */
export const cursorText = (order: string, place: Place): string => Buffer.from(JSON.stringify([order, ...place])).toString('base64url');

/** Reads a cursor; null where it is none of this order. */
export function readCursor(order: string, text: string): Place | null {
  if (text.length > MOST_LENGTH || !/^[\w-]+$/.test(text)) return null;
  try {
    const [begun, ...place]: unknown[] = JSON.parse(Buffer.from(text, 'base64url').toString());
    return begun === order && place.length > 0 && place.every(isKey) ? place : null;
  } catch {
    return null;
  }
}

const isKey = (value: unknown): value is Place[number] => value === null || typeof value === 'string' || Number.isFinite(value);
