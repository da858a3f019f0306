const MINUTE = 60_000;
/** Waits before the second, third … attempt: soon while a temporary refusal may be short, then rarer (RFC 5321 §4.5.4.1). */
const WAITS = [1, 5, 15, 30, 60, 120, 240].map((minutes) => minutes * MINUTE);
/** RFC 5321 §4.5.4.1 asks for four to five days. */
export const GIVE_UP_AFTER = 4 * 24 * 60 * MINUTE;

export type NextAttempt = { kind: 'again'; at: number } | { kind: 'give-up' };

/** When to try again after `attempts` tries of a message that was accepted at `acceptedAt` (ms). */
export function nextAttempt(attempts: number, acceptedAt: number, now: number): NextAttempt {
  if (now - acceptedAt >= GIVE_UP_AFTER) return { kind: 'give-up' };
  const wait = WAITS[Math.min(Math.max(attempts, 1), WAITS.length) - 1] ?? 240 * MINUTE;
  return { kind: 'again', at: Math.min(now + wait, acceptedAt + GIVE_UP_AFTER) };
}
