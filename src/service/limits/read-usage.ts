import { lengthsOf, MINUTE, SECOND, stretchesAt } from '../../core/limits/periods.ts';
import { Usage } from '../../core/limits/usage.ts';
import type { Database } from '../../store/database.ts';
import { chargedIn, chargesBy } from '../../store/ledger.ts';
import type { ScopeRef } from '../../store/limits.ts';

/** From when on what slides is read in buckets of a grain: one more than the longest of it. */
const since = (grain: number, now: number): number => Math.floor((now - (lengthsOf(grain).at(-1) ?? 0)) / grain) * grain - grain;

/** What a scope has used by now, out of the ledger: exact where it slides, in sums where only the calendar counts it. */
export function readUsage(db: Database, scope: ScopeRef, zone: string, now: number): Usage {
  const usage = new Usage(zone);
  const byMinute = since(MINUTE, now);
  const bySecond = since(SECOND, now);
  // Each stretch of the calendar begins with a sum of its own.
  const begins = stretchesAt(now, zone)
    .map((one) => one.start)
    .filter((start) => start < byMinute)
    .sort((one, other) => one - other);
  for (const [place, start] of begins.entries()) {
    const end = begins[place + 1] ?? byMinute;
    if (start < end) usage.addToCalendar(start, chargedIn(db, scope, start, end));
  }
  for (const one of chargesBy(db, scope, MINUTE, byMinute, bySecond)) usage.add(one.at, one);
  for (const one of chargesBy(db, scope, SECOND, bySecond, Number.MAX_SAFE_INTEGER)) usage.add(one.at, one);
  return usage;
}
