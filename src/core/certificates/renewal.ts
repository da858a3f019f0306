const HOUR = 3600_000;

/** When a certificate is renewed that says nothing else: at two thirds of its life, and up to a thirtieth of it before, so that many do not come at once. */
export function renewalTime({ notBefore, notAfter }: { notBefore: number; notAfter: number }, random: number): number {
  const life = notAfter - notBefore;
  return Math.round(notBefore + life * (2 / 3 - random / 30));
}

/** A time in the window that the authority proposes (RFC 9773 §4.2), each of its moments alike. */
export const timeInWindow = ({ from, to }: { from: number; to: number }, random: number): number => Math.round(from + random * (to - from));

/** When it is tried again after so many failures: from ten minutes to a day, never before the authority wants to be asked (RFC 8555 §6.6). */
export function nextTry(now: number, failures: number, random: number, retryAfterMs: number | null): number {
  const wait = Math.min(24 * HOUR, (HOUR / 6) * 2 ** Math.min(failures - 1, 10));
  return now + Math.max(Math.round(wait * (0.8 + 0.4 * random)), retryAfterMs ?? 0);
}
