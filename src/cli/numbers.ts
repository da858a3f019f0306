import { InvalidArgumentError, Option } from 'commander';
import { inUtc } from './output.ts';

/** One grammar for all options: sizes, spans and times are written alike wherever they are asked for, and the help says so in these words. */
export const SIZE_WORDS = 'like 500M or 2G';
export const SPAN_WORDS = 'like 30m, 4h or 2d';
export const TIME_WORDS = 'like 2026-12-01, 2026-12-01T18:00 or 2026-12-01T18:00Z';

export function wholeNumber(text: string): number {
  if (!/^\d{1,12}$/.test(text)) throw new InvalidArgumentError('Give a whole number.');
  return Number(text);
}

/** `800K`, `500M`, `1.5G`, `1T`, also `500MiB`, in octets. Without a unit nobody knows what is meant. */
export function sizeOption(text: string): number {
  const found = /^(\d{1,12}(?:\.\d{1,3})?) ?([KMGT])(?:i?B)?$/i.exec(text.trim());
  if (!found) throw new InvalidArgumentError(`Give a size with its unit, ${SIZE_WORDS}.`);
  return Math.round(Number(found[1]) * 1024 ** ('KMGT'.indexOf((found[2] ?? '').toUpperCase()) + 1));
}

/** What an option’s parser gives for none: a null is taken for an option without a value there. */
export const NONE = Symbol('none');
export const orNull = <Value>(value: Value | typeof NONE): Value | null => (value === NONE ? null : value);

/** A whole number, or `none`. */
export function numberOrNone(text: string): number | typeof NONE {
  if (text === 'none') return NONE;
  if (!/^\d{1,12}$/.test(text)) throw new InvalidArgumentError('Give a whole number, or none.');
  return Number(text);
}

/** A size, or `none`. */
export const sizeOrNone = (text: string): number | typeof NONE => (text === 'none' ? NONE : sizeOption(text));

/** How many rows a call gives at once, at most. */
export const MOST_ROWS = 500;

/** How many rows are asked for. */
export function rowsOption(text: string): number {
  const number = wholeNumber(text);
  if (number < 1 || number > MOST_ROWS) throw new InvalidArgumentError(`Give a whole number from 1 to ${MOST_ROWS}.`);
  return number;
}

/** An option that takes one of a few words; `note` says what they decide. */
export const choice = (flags: string, note: string, words: readonly string[]): Option => new Option(flags, note).choices(words);

export function positiveNumber(text: string): number {
  const number = Number(text);
  if (!Number.isFinite(number) || number <= 0) throw new InvalidArgumentError('Give a number above 0.');
  return number;
}

const SPANS: Record<string, number> = { m: 60_000, h: 3_600_000, d: 86_400_000, w: 7 * 86_400_000 };
const SPAN = /^(?:\d{1,6}[mhdw])(?: ?\d{1,6}[mhdw])*$/;

/** `30m`, `4h`, `1h30m`, `2d`, `1w`, in milliseconds. */
export function spanOption(text: string): number {
  if (!SPAN.test(text.trim())) throw new InvalidArgumentError(`Give a span ${SPAN_WORDS}.`);
  return [...text.matchAll(/(\d+)([mhdw])/g)].reduce((sum, [, number, unit]) => sum + Number(number) * (SPANS[unit ?? ''] ?? 0), 0);
}

/** A date with or without a time, in the operator's zone (with --utc in UTC) unless it says its own; in milliseconds. */
function dateOption(text: string): number {
  const found = /^(\d{4}-\d\d-\d\d)(?:[T ](\d\d:\d\d(?::\d\d)?))?(Z|[+-]\d\d:\d\d)?$/.exec(text.trim());
  const at = found ? Date.parse(`${found[1]}T${found[2] ?? '00:00'}${found[3] ?? (inUtc() ? 'Z' : '')}`) : Number.NaN;
  // A 30th of February is none, although it can be read as the 2nd of March.
  const day = Date.parse(`${found?.[1]}T00:00Z`);
  const isDay = !Number.isNaN(day) && new Date(day).toISOString().startsWith(found?.[1] ?? '-');
  if (Number.isNaN(at) || !isDay) throw new InvalidArgumentError(`Give a time ${TIME_WORDS}, or a span ${SPAN_WORDS}.`);
  return at;
}

/** A span from now on, or a time. */
export const momentOption = (text: string): number => (SPAN.test(text.trim()) ? Date.now() + spanOption(text) : dateOption(text));

/** A span ago, or a time. */
export const pastOption = (text: string): number => (SPAN.test(text.trim()) ? Date.now() - spanOption(text) : dateOption(text));
