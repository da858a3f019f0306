import type { Period, Quantity } from '../vocabulary.ts';
import { type Amounts, addTo, type CalendarPeriod, NONE } from './amounts.ts';
import { dayOf, monthOf, type Stretch } from './calendar.ts';
import { SlidingSum } from './sliding-sum.ts';

const SECOND = 1000;
export const MINUTE = 60 * SECOND;
export const HOUR = 60 * MINUTE;
export const DAY = 24 * HOUR;

type Counted = Stretch & { used: Amounts };

const PLACE = { hour: 0, day: 1 } as const;

/** What one account (a domain, a mailbox …) has used of each period. Times are milliseconds of the ledger's clock. */
export class Usage {
  private readonly burst = new SlidingSum(SECOND, [MINUTE]);
  private readonly sliding = new SlidingSum(MINUTE, [HOUR, DAY]);
  private month: Counted = { start: 0, end: 0, used: { ...NONE } };
  private today: Counted = { start: 0, end: 0, used: { ...NONE } };

  constructor(private readonly zone: string) {}

  add(at: number, amounts: Amounts): void {
    this.burst.add(at, amounts);
    this.sliding.add(at, amounts);
    this.addTo('month', at, amounts);
    this.addTo('calendar-day', at, amounts);
  }

  /** For what was charged before the last day: it counts for the month only. */
  addToMonth(at: number, amounts: Amounts): void {
    this.addTo('month', at, amounts);
  }

  used(period: Period, now: number): Amounts {
    if (period === 'minute') return this.burst.used(0, now);
    if (period === 'month' || period === 'calendar-day') return this.stretchAt(period, now).used;
    return this.sliding.used(PLACE[period], now);
  }

  /** When at most `most` of a quantity counts in the period, if nothing is added; null if that never comes. */
  whenAtMost(period: Period, quantity: Quantity, most: number, now: number): number | null {
    if (period === 'minute') return this.burst.whenAtMost(0, quantity, most, now);
    if (period === 'hour' || period === 'day') return this.sliding.whenAtMost(PLACE[period], quantity, most, now);
    const stretch = this.stretchAt(period, now);
    return stretch.used[quantity] <= most ? now : most < 0 ? null : stretch.end;
  }

  /** Whether nothing counts in the last day. */
  isIdle(now: number): boolean {
    return this.sliding.isEmpty(now);
  }

  private addTo(period: CalendarPeriod, at: number, amounts: Amounts): void {
    addTo(this.stretchAt(period, at).used, amounts);
  }

  /** The calendar never goes back: a clock that does is still in the later month, on the later day. */
  private stretchAt(period: CalendarPeriod, at: number): Counted {
    if (period === 'month') {
      if (at >= this.month.end) this.month = { ...monthOf(at, this.zone), used: { ...NONE } };
      return this.month;
    }
    if (at >= this.today.end) this.today = { ...dayOf(at, this.zone), used: { ...NONE } };
    return this.today;
  }
}
