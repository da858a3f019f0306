import { PERIODS, type Period, type Quantity } from '../vocabulary.ts';
import { type Amounts, addTo, NONE } from './amounts.ts';
import type { Stretch } from './calendar.ts';
import { COUNTING, lengthsOf, MINUTE, SECOND } from './periods.ts';
import { SlidingSum } from './sliding-sum.ts';

/** What counts of a calendar period, from when it began. */
class CalendarSum {
  private stretch: Stretch = { start: 0, end: 0 };
  private sum: Amounts = { ...NONE };

  constructor(
    private readonly stretchAt: (at: number, zone: string) => Stretch,
    private readonly zone: string,
  ) {}

  add(at: number, amounts: Amounts): void {
    addTo(this.used(at), amounts);
  }

  /** The calendar never goes back: a clock that does is still in the later month, on the later day. */
  used(now: number): Amounts {
    if (now >= this.stretch.end) {
      this.stretch = this.stretchAt(now, this.zone);
      this.sum = { ...NONE };
    }
    return this.sum;
  }

  whenAtMost(quantity: Quantity, most: number, now: number): number | null {
    if (this.used(now)[quantity] <= most) return now;
    return most < 0 ? null : this.stretch.end;
  }
}

const BY_SECOND = lengthsOf(SECOND);
const BY_MINUTE = lengthsOf(MINUTE);

/** Of which sum a period that slides is a length; null for the calendar's. */
function slidingOf(period: Period): { sum: 'bySecond' | 'byMinute'; place: number } | null {
  const counting = COUNTING[period];
  if (counting.kind === 'calendar') return null;
  const { grain, ms } = counting;
  return grain === SECOND ? { sum: 'bySecond', place: BY_SECOND.indexOf(ms) } : { sum: 'byMinute', place: BY_MINUTE.indexOf(ms) };
}
const SLIDING = Object.fromEntries(PERIODS.map((one) => [one, slidingOf(one)])) as Record<Period, ReturnType<typeof slidingOf>>;

/** What one account (a domain, a mailbox …) has used of each period. Times are milliseconds of the ledger's clock. */
export class Usage {
  private readonly bySecond = new SlidingSum(SECOND, BY_SECOND);
  private readonly byMinute = new SlidingSum(MINUTE, BY_MINUTE);
  private readonly calendar: Partial<Record<Period, CalendarSum>> = {};
  private readonly sums: CalendarSum[] = [];

  constructor(zone: string) {
    for (const period of PERIODS) {
      const counting = COUNTING[period];
      if (counting.kind === 'sliding') continue;
      const sum = new CalendarSum(counting.stretchAt, zone);
      this.calendar[period] = sum;
      this.sums.push(sum);
    }
  }

  add(at: number, amounts: Amounts): void {
    this.bySecond.add(at, amounts);
    this.byMinute.add(at, amounts);
    this.addToCalendar(at, amounts);
  }

  /** For what was charged before all that slides: it counts for the calendar's periods only. In the order of time. */
  addToCalendar(at: number, amounts: Amounts): void {
    for (const one of this.sums) one.add(at, amounts);
  }

  used(period: Period, now: number): Amounts {
    const sliding = SLIDING[period];
    return sliding ? this[sliding.sum].used(sliding.place, now) : (this.calendar[period] as CalendarSum).used(now);
  }

  /** When at most `most` of a quantity counts in the period, if nothing is added; null if that never comes. */
  whenAtMost(period: Period, quantity: Quantity, most: number, now: number): number | null {
    const sliding = SLIDING[period];
    return sliding
      ? this[sliding.sum].whenAtMost(sliding.place, quantity, most, now)
      : (this.calendar[period] as CalendarSum).whenAtMost(quantity, most, now);
  }

  /** Whether nothing counts in the longest period that slides. */
  isIdle(now: number): boolean {
    return this.byMinute.isEmpty(now);
  }
}
