import { InvalidArgumentError } from 'commander';

export function wholeNumber(text: string): number {
  if (!/^\d{1,12}$/.test(text)) throw new InvalidArgumentError('Give a whole number.');
  return Number(text);
}

/** `500M`, `2G`, `1T`; a bare number is MiB. */
export function sizeOption(text: string): number {
  const found = /^(\d+(?:\.\d+)?)\s*([MGT]?)(?:i?B)?$/i.exec(text.trim());
  if (!found) throw new InvalidArgumentError('Give a size like 500M or 2G.');
  const factor = { M: 1024 ** 2, G: 1024 ** 3, T: 1024 ** 4 }[(found[2] || 'M').toUpperCase() as 'M' | 'G' | 'T'];
  return Math.round(Number(found[1]) * factor);
}

export function positiveNumber(text: string): number {
  const number = Number(text);
  if (!Number.isFinite(number) || number <= 0) throw new InvalidArgumentError('Give a number above 0.');
  return number;
}

const SPANS: Record<string, number> = { m: 60_000, h: 3_600_000, d: 86_400_000 };

/** `30m`, `4h`, `2d`, in milliseconds. */
export function spanOption(text: string): number {
  const found = /^(\d{1,6})([mhd])$/.exec(text.trim());
  if (!found) throw new InvalidArgumentError('Give a span like 30m, 4h or 2d.');
  return Number(found[1]) * (SPANS[found[2] ?? ''] ?? 0);
}

/** `36h` from now, or a date with or without a time in UTC; in milliseconds. */
export function momentOption(text: string): number {
  if (/^\d{1,6}[mhd]$/.test(text.trim())) return Date.now() + spanOption(text);
  const found = /^(\d{4}-\d\d-\d\d)(?:[T ](\d\d:\d\d(?::\d\d)?))?Z?$/.exec(text.trim());
  const at = found ? Date.parse(`${found[1]}T${found[2] ?? '00:00'}Z`) : Number.NaN;
  if (Number.isNaN(at)) throw new InvalidArgumentError('Give a time like 2026-12-01T18:00 (UTC), or a span like 36h.');
  return at;
}

/** `2h` ago, or a date with or without a time in UTC; in milliseconds. */
export const pastOption = (text: string): number =>
  /^\d{1,6}[mhd]$/.test(text.trim()) ? Date.now() - spanOption(text) : momentOption(text);
