import type { Quantity } from '../vocabulary.ts';
import { type Amounts, addTo, NONE } from './amounts.ts';

/**
 * Sums over the last stretch of time, for one or more lengths of it. Entries of one grain share a bucket, and a bucket counts until all
 * of it has left the window: so memory is bounded, and no true window of that length ever holds more than is counted here.
 * Times are milliseconds.
 */
export class SlidingSum {
  /** When each bucket ends, ascending; beside them what they hold. */
  private ends: number[] = [];
  private held: Amounts[] = [];
  private readonly sums: Amounts[];
  /** For each length the first bucket that still counts. */
  private readonly first: number[];
  /** The latest time that was seen. */
  private latest = Number.NEGATIVE_INFINITY;

  constructor(
    private readonly grain: number,
    private readonly lengths: readonly number[],
  ) {
    this.sums = lengths.map(() => ({ ...NONE }));
    this.first = lengths.map(() => 0);
  }

  /** A time before the latest one that was seen (a clock step) counts as that, so that nothing leaves a window by it. */
  add(at: number, amounts: Amounts): void {
    const last = this.ends.length - 1;
    const newest = this.ends[last] ?? Number.NEGATIVE_INFINITY;
    this.latest = Math.max(this.latest, at);
    const end = Math.max((Math.floor(this.latest / this.grain) + 1) * this.grain, newest);
    if (end === newest) addTo(this.held[last] as Amounts, amounts, 1);
    else {
      this.ends.push(end);
      this.held.push({ ...amounts });
    }
    for (const one of this.sums) addTo(one, amounts, 1);
  }

  /** What counts at `now` in the window of the length at that place. */
  used(place: number, now: number): Amounts {
    const sums = this.sums[place] as Amounts;
    this.latest = Math.max(this.latest, now);
    const since = this.latest - (this.lengths[place] as number);
    let first = this.first[place] as number;
    while (first < this.ends.length && (this.ends[first] as number) <= since) {
      addTo(sums, this.held[first] as Amounts, -1);
      first += 1;
    }
    this.first[place] = first;
    if (first > 512) this.drop();
    return sums;
  }

  /** When at most `most` of a quantity is left in the window, if nothing is added; null if that never comes. */
  whenAtMost(place: number, quantity: Quantity, most: number, now: number): number | null {
    let remaining = this.used(place, now)[quantity];
    if (remaining <= most) return now;
    for (let at = this.first[place] as number; at < this.ends.length; at += 1) {
      remaining -= (this.held[at] as Amounts)[quantity];
      if (remaining <= most) return (this.ends[at] as number) + (this.lengths[place] as number);
    }
    return null;
  }

  /** Whether nothing counts any more, in any window. */
  isEmpty(now: number): boolean {
    return this.lengths.every((_length, place) => {
      this.used(place, now);
      return this.first[place] === this.ends.length;
    });
  }

  /** Lets go of buckets that count nowhere. */
  private drop(): void {
    const gone = Math.min(...this.first);
    if (gone * 2 < this.ends.length) return;
    this.ends = this.ends.slice(gone);
    this.held = this.held.slice(gone);
    for (let place = 0; place < this.first.length; place += 1) this.first[place] = (this.first[place] as number) - gone;
  }
}
