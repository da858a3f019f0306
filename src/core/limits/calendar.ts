/** A stretch of the calendar: from `start` until before `end`, milliseconds. */
export interface Stretch {
  start: number;
  end: number;
}

const formats = new Map<string, Intl.DateTimeFormat>();

function formatOf(zone: string): Intl.DateTimeFormat {
  let format = formats.get(zone);
  if (!format) {
    format = new Intl.DateTimeFormat('en-US', {
      timeZone: zone,
      hourCycle: 'h23',
      year: 'numeric',
      month: 'numeric',
      day: 'numeric',
      hour: 'numeric',
      minute: 'numeric',
      second: 'numeric',
    });
    formats.set(zone, format);
  }
  return format;
}

/** Whether a text names a time zone, such as Europe/Madrid. */
export function isTimeZone(zone: string): boolean {
  try {
    formatOf(zone);
    return true;
  } catch {
    return false;
  }
}

/** Local time as if it were UTC: for arithmetic on days and months. */
function localTime(at: number, zone: string): number {
  if (zone === 'UTC') return at;
  const part: Record<string, number> = {};
  for (const { type, value } of formatOf(zone).formatToParts(at)) part[type] = Number(value);
  return Date.UTC(part['year'] ?? 0, (part['month'] ?? 1) - 1, part['day'], part['hour'], part['minute'], part['second']);
}

/** The first moment at which local clocks show that time or later; where clocks go forward, a time may be skipped, where back, shown twice. */
function momentOf(local: number, zone: string): number {
  if (zone === 'UTC') return local;
  let low = local - 16 * 3_600_000;
  let high = local + 16 * 3_600_000;
  // Offsets are whole seconds; local time never runs backward by more than some hours, and not around a day's beginning in both directions.
  while (high - low > 1000) {
    const middle = Math.floor((low + high) / 2000) * 1000;
    if (localTime(middle, zone) >= local) high = middle;
    else low = middle;
  }
  return high;
}

/** Stretches of a zone that are remembered: finding where one begins takes half a millisecond, and all accounts ask for the same ones. */
const MOST_REMEMBERED = 64;
function remembered(find: (at: number, zone: string) => Stretch): (at: number, zone: string) => Stretch {
  const known = new Map<string, Stretch[]>();
  return (at, zone) => {
    const stretches = known.get(zone) ?? [];
    const before = stretches.find(({ start, end }) => at >= start && at < end);
    if (before) return before;
    const found = find(at, zone);
    known.set(zone, [found, ...stretches].slice(0, MOST_REMEMBERED));
    return found;
  };
}

/** The calendar month in that time zone that a moment belongs to. */
export const monthOf = remembered((at, zone) => {
  const local = new Date(localTime(at, zone));
  const [year, month] = [local.getUTCFullYear(), local.getUTCMonth()];
  return { start: momentOf(Date.UTC(year, month), zone), end: momentOf(Date.UTC(year, month + 1), zone) };
});

/** The calendar day in that time zone that a moment belongs to; it may have 23 or 25 hours. */
export const dayOf = remembered((at, zone) => {
  const local = new Date(localTime(at, zone));
  const [year, month, day] = [local.getUTCFullYear(), local.getUTCMonth(), local.getUTCDate()];
  return { start: momentOf(Date.UTC(year, month, day), zone), end: momentOf(Date.UTC(year, month, day + 1), zone) };
});

/** `2026-11-23` in that time zone. */
export const dayName = (at: number, zone: string): string => new Date(localTime(at, zone)).toISOString().slice(0, 10);

/** Where a day of that name begins in that time zone; null when the text is no date. */
export function dayStart(name: string, zone: string): number | null {
  const local = /^\d{4}-\d\d-\d\d$/.test(name) ? Date.parse(`${name}T00:00:00Z`) : Number.NaN;
  return Number.isNaN(local) || new Date(local).toISOString().slice(0, 10) !== name ? null : momentOf(local, zone);
}
