import type { CalendarPeriod } from '../../core/limits/amounts.ts';
import { dayOf, monthOf } from '../../core/limits/calendar.ts';
import { DAY, HOUR, MINUTE, Usage } from '../../core/limits/usage.ts';
import type { Period } from '../../core/vocabulary.ts';
import type { Database } from '../../store/database.ts';
import { chargedIn, chargesBy } from '../../store/ledger.ts';
import type { ScopeRef } from '../../store/limits.ts';

const WINDOW: Record<Exclude<Period, CalendarPeriod>, number> = { minute: MINUTE, hour: HOUR, day: DAY };

/** When the stretch began that a period counts at a moment. */
export function windowStart(period: Period, now: number, zone: string): number {
  if (period === 'month') return monthOf(now, zone).start;
  if (period === 'calendar-day') return dayOf(now, zone).start;
  return now - WINDOW[period];
}

/** What a scope has used by now, out of the ledger: exact where it still counts, in sums where only the month does. */
export function readUsage(db: Database, scope: ScopeRef, zone: string, now: number): Usage {
  const usage = new Usage(zone);
  const month = monthOf(now, zone).start;
  // A calendar day may have 25 hours.
  const day = Math.floor(Math.min(now - DAY, dayOf(now, zone).start) / MINUTE) * MINUTE - MINUTE;
  const recent = Math.floor((now - MINUTE) / 1000) * 1000 - 1000;
  if (month < day) usage.addToMonth(month, chargedIn(db, scope, month, day));
  for (const one of chargesBy(db, scope, MINUTE, day, recent)) usage.add(one.at, one);
  for (const one of chargesBy(db, scope, 1000, recent, Number.MAX_SAFE_INTEGER)) usage.add(one.at, one);
  return usage;
}
