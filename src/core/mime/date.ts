const MONTHS = ['jan', 'feb', 'mar', 'apr', 'may', 'jun', 'jul', 'aug', 'sep', 'oct', 'nov', 'dec'];
/** RFC 5322 §4.3, in minutes. */
const ZONES: Record<string, number> = {
  ut: 0,
  gmt: 0,
  z: 0,
  est: -300,
  edt: -240,
  cst: -360,
  cdt: -300,
  mst: -420,
  mdt: -360,
  pst: -480,
  pdt: -420,
};

/** A Date field in ms (RFC 5322 §3.3, with the old forms of §4.3); null for what is no date. */
export function readMailDate(value: string): number | null {
  const read = readParts(value);
  return read && read.local - read.minutes * 60_000;
}

/** The day that a Date field names, whatever its zone: where it begins in UTC, in ms. */
export function dayOfMail(value: string): number | null {
  const read = readParts(value);
  return read && Math.floor(read.local / DAY) * DAY;
}

const DAY = 86_400_000;

/** The time as it is written, as if in UTC, and how many minutes its zone is ahead of that. */
function readParts(value: string): { local: number; minutes: number } | null {
  const found =
    /^\s*(?:[a-z]{3,9}\s*,?\s*)?(\d{1,2})[\s-]+([a-z]{3})[a-z]{0,6}[\s-]+(\d{2,4})\s+(\d{1,2}):(\d{2})(?::(\d{2}))?(?:\.\d{1,9})?\s*(?:([+-]\d{4})|([a-z]{1,4}))?/i.exec(
      value.slice(0, 200),
    );
  if (!found) return null;
  const [, day, name = '', yearText = '', hour, minute, second = '0', offset, zone] = found;
  const month = MONTHS.indexOf(name.toLowerCase());
  if (month < 0) return null;
  const number = Number(yearText);
  const year = yearText.length >= 4 ? number : number < 50 ? 2000 + number : 1900 + number;
  const minutes =
    offset === undefined
      ? (ZONES[(zone ?? '').toLowerCase()] ?? 0)
      : (offset.startsWith('-') ? -1 : 1) * (Number(offset.slice(1, 3)) * 60 + Number(offset.slice(3)));
  const local = Date.UTC(year, month, Number(day), Number(hour), Number(minute), Math.min(59, Number(second)));
  const made = new Date(local);
  // What rolls over is no date: the 31st of June.
  if (made.getUTCDate() !== Number(day) || made.getUTCHours() !== Number(hour) || made.getUTCMinutes() !== Number(minute)) return null;
  return { local, minutes };
}
