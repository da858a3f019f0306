const MINUTE = 60_000;
/** Waits before the second, third … attempt: soon while a temporary refusal may be short, then rarer (RFC 5321 §4.5.4.1). */
const WAITS = [1, 5, 15, 30, 60, 120, 240].map((minutes) => minutes * MINUTE);
/** RFC 5321 §4.5.4.1 asks for four to five days. */
export const GIVE_UP_AFTER = 5 * 24 * 60 * MINUTE;
/** A wait is up to a tenth shorter or longer, so that what failed together does not come back together. */
const JITTER = 0.1;
/** How steadily a standby server asks whether the primary is back. */
const STANDBY_WAIT = 2 * MINUTE;

export type NextAttempt = { kind: 'again'; at: number } | { kind: 'give-up' };

/** When to try again after `attempts` tries of a message that was accepted at `acceptedAt` (ms); `draw` is 0 to 1. */
export function nextAttempt(attempts: number, acceptedAt: number, now: number, draw: number, steady = false): NextAttempt {
  if (now - acceptedAt >= GIVE_UP_AFTER) return { kind: 'give-up' };
  const usual = WAITS[Math.min(Math.max(attempts, 1), WAITS.length) - 1] ?? 240 * MINUTE;
  const wait = (steady ? Math.min(usual, STANDBY_WAIT) : usual) * (1 - JITTER + 2 * JITTER * draw);
  return { kind: 'again', at: Math.min(now + Math.round(wait), acceptedAt + GIVE_UP_AFTER) };
}
