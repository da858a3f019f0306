import type { Period } from '../vocabulary.ts';
import { dayOf, monthOf, type Stretch } from './calendar.ts';

export const SECOND = 1000;
export const MINUTE = 60 * SECOND;
export const HOUR = 60 * MINUTE;
export const DAY = 24 * HOUR;

/** How a period counts: within the last `ms`, in buckets of one grain; or from when the calendar began it, until it ends. */
type Counting =
  | { kind: 'sliding'; ms: number; grain: typeof SECOND | typeof MINUTE }
  | { kind: 'calendar'; stretchAt: (at: number, zone: string) => Stretch };

/** All that counting, reading back and asking about a period go by. A calendar's stretches begin on a full minute. */
export const COUNTING: Record<Period, Counting> = {
  minute: { kind: 'sliding', ms: MINUTE, grain: SECOND },
  hour: { kind: 'sliding', ms: HOUR, grain: MINUTE },
  day: { kind: 'sliding', ms: DAY, grain: MINUTE },
  'calendar-day': { kind: 'calendar', stretchAt: dayOf },
  month: { kind: 'calendar', stretchAt: monthOf },
};

/** The lengths that are counted in buckets of a grain, the shortest first. */
export const lengthsOf = (grain: number): number[] =>
  Object.values(COUNTING)
    .flatMap((one) => (one.kind === 'sliding' && one.grain === grain ? one.ms : []))
    .sort((one, other) => one - other);

/** The stretches of all calendar periods at a moment. */
export const stretchesAt = (at: number, zone: string): Stretch[] =>
  Object.values(COUNTING).flatMap((one) => (one.kind === 'calendar' ? one.stretchAt(at, zone) : []));

/** When the stretch began that a period counts at a moment. */
export function windowStart(period: Period, now: number, zone: string): number {
  const counting = COUNTING[period];
  return counting.kind === 'sliding' ? now - counting.ms : counting.stretchAt(now, zone).start;
}
