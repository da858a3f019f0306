import { DAY, HOUR, type SendWindow } from './window.ts';

/** Sends allowed; null is no limit. */
export interface Limits {
  hour: number | null;
  day: number | null;
}

export type LimitDecision =
  | { kind: 'room' }
  /** `roomAt` is null when only open sessions or the limit itself (below what is asked) stand in the way. */
  | { kind: 'full'; period: 'hour' | 'day'; limit: number; used: number; roomAt: number | null };

/**
 * The one place where a sending limit is decided: may `sends` more be promised now?
 * Accepted sends and reservations of open sessions both count, so parallel sessions can't pass the limit together.
 */
export function decideSends(window: SendWindow, limits: Limits, sends: number, now: number): LimitDecision {
  const used = window.used(now);
  let full: LimitDecision & { kind: 'full' } = { kind: 'full', period: 'hour', limit: 0, used: 0, roomAt: now };
  let refused = false;
  for (const period of ['hour', 'day'] as const) {
    const limit = limits[period];
    if (limit === null || used[period] + window.reserved + sends <= limit) continue;
    const most = limit - sends;
    const free = most < 0 ? null : window.whenAtMost(most, period === 'hour' ? HOUR : DAY, now);
    const roomAt = free === now ? null : free;
    // The answer names the limit that holds longest.
    if (!refused || (roomAt ?? Number.POSITIVE_INFINITY) >= (full.roomAt ?? Number.POSITIVE_INFINITY))
      full = { kind: 'full', period, limit, used: used[period], roomAt };
    refused = true;
  }
  return refused ? full : { kind: 'room' };
}
