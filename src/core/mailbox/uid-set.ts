/** Numbers from one to another, both included, in ascending order and apart from one another. */
export type Range = readonly [from: number, to: number];

/** Ranges of some numbers, which need not be in order. */
export function rangesOf(numbers: readonly number[]): Range[] {
  const sorted = [...numbers].sort((one, other) => one - other);
  const ranges: [number, number][] = [];
  for (const number of sorted) {
    const last = ranges.at(-1);
    if (last && number <= last[1] + 1) last[1] = Math.max(last[1], number);
    else ranges.push([number, number]);
  }
  return ranges;
}

/** Ranges put in order, those that touch made one. */
export function normalRanges(ranges: readonly Range[]): Range[] {
  const sorted = ranges
    .map(([from, to]): [number, number] => (from <= to ? [from, to] : [to, from]))
    .sort((one, other) => one[0] - other[0]);
  const merged: [number, number][] = [];
  for (const [from, to] of sorted) {
    const last = merged.at(-1);
    if (last && from <= last[1] + 1) last[1] = Math.max(last[1], to);
    else merged.push([from, to]);
  }
  return merged;
}

/** As a sequence set (RFC 3501 §9): `1:4,7`; empty for none. */
export const rangesText = (ranges: readonly Range[]): string =>
  ranges.map(([from, to]) => (from === to ? `${from}` : `${from}:${to}`)).join(',');
