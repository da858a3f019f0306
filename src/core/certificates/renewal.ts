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

/** Between two certificates for one name there is a third of the life of the first, and six hours at most, whatever an authority proposes. */
export const notBeforeNext = ({ notBefore, notAfter }: { notBefore: number; notAfter: number }, now: number): number =>
  now + Math.max(HOUR / 60, Math.min(6 * HOUR, (notAfter - notBefore) / 3));

/** An authority that has failed so often in a row, for whatever names, is left alone for a while. */
const FAILURES_ALLOWED = 5;
/** How long, in ms; 0 as long as it has not failed too often. */
export const authorityRest = (failures: number): number =>
  failures < FAILURES_ALLOWED ? 0 : Math.min(6 * HOUR, (HOUR / 12) * 2 ** Math.min(failures - FAILURES_ALLOWED, 10));
