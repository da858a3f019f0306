import { styleText } from 'node:util';
import Table from 'cli-table3';
import stringWidth from 'string-width';
import type { RecipientState, Verdict } from '../core/vocabulary.ts';

type Style = Parameters<typeof styleText>[0];

const colours = (): boolean => process.stdout.isTTY === true && !process.env['NO_COLOR'];
export const styled = (style: Style, text: string): string => (colours() ? styleText(style, text) : text);
export const dim = (text: string): string => styled('dim', text);
export const bold = (text: string): string => styled('bold', text);

/** What steers a terminal, or turns a line round: controls, separators of lines, marks of direction, tags. */
const STEERING = /[\p{Cc}\p{Zl}\p{Zp}\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\u{e0000}-\u{e007f}]/gu;

/** Nothing from outside may steer the terminal: such characters are shown as marks. */
export const safe = (text: string): string => text.replace(STEERING, '�');

/** JSON whose text can be shown anywhere: what steers is written as an escape, and read back as it was. */
export const harmlessJson = (value: unknown, indent?: number): string =>
  JSON.stringify(value, null, indent).replace(STEERING, (found) =>
    found === '\n'
      ? found
      : [...found]
          .flatMap((one) => one.split(''))
          .map((unit) => `\\u${unit.charCodeAt(0).toString(16).padStart(4, '0')}`)
          .join(''),
  );

export const say = (text = ''): void => {
  process.stdout.write(`${text}\n`);
};

/** Whether the result is to be printed as JSON. */
export type Json = () => boolean;

/** A value whose texts steer nothing; they keep their lines. */
function harmless<T>(value: T): T {
  if (typeof value === 'string') return value.replace(STEERING, (found) => (found === '\n' || found === '\t' ? found : '�')) as T;
  if (Array.isArray(value)) return value.map(harmless) as T;
  if (value === null || typeof value !== 'object') return value;
  return Object.fromEntries(Object.entries(value).map(([name, inner]) => [name, harmless(inner)])) as T;
}

/** Prints the result as JSON, or as `human` puts it: whatever strangers wrote into it is harmless by then. */
export function show<T>(json: Json, value: T, human: (value: T) => string): void {
  say(json() ? harmlessJson(value, 2) : human(harmless(value)));
}

/** A column is not made narrower than this. */
const NARROWEST = 12;

/** What is left of the texts when the table is to fit the terminal: the widest columns give first. In a pipe nothing is cut. */
function fitting(headings: readonly string[], rows: readonly (readonly string[])[]): string[][] {
  const columns = process.stdout.isTTY ? process.stdout.columns : Number.POSITIVE_INFINITY;
  const width = (text: string): number => stringWidth(text);
  const widths = headings.map((heading, at) => Math.max(width(heading), ...rows.map((row) => width(row[at] ?? ''))));
  // What is coloured says something short.
  const gives = headings.map((_heading, at) =>
    rows.every((row) => !(row[at] ?? '').includes('\u001b') && !/^\d{4}-\d\d-\d\d /.test(row[at] ?? '')),
  );
  for (let over = widths.reduce((sum, one) => sum + one + 2, -2) - columns; over > 0; over -= 1) {
    const most = Math.max(...widths.filter((one, at) => gives[at] && one > NARROWEST));
    if (!Number.isFinite(most)) break;
    widths[widths.findIndex((one, at) => gives[at] && one === most)] = most - 1;
  }
  return rows.map((row) =>
    row.map((text, at) => (width(text) > (widths[at] ?? 0) ? `${[...text].slice(0, (widths[at] ?? 1) - 1).join('')}…` : text)),
  );
}

/** Rows under dim headings, columns two spaces apart, as wide as the terminal at most. Numbers are set to the right. */
export function table(headings: string[], rows: (string | number | null)[][]): string {
  const plain = {
    top: '',
    'top-mid': '',
    'top-left': '',
    'top-right': '',
    bottom: '',
    'bottom-mid': '',
    'bottom-left': '',
    'bottom-right': '',
    left: '',
    'left-mid': '',
    mid: '',
    'mid-mid': '',
    right: '',
    'right-mid': '',
    middle: '  ',
  };
  const right = headings.map(
    (_heading, at) =>
      rows.length > 0 &&
      rows.every(
        (row) =>
          typeof row[at] === 'number' ||
          row[at] === null ||
          row[at] === '–' ||
          /^\d[\d,]*(\.\d+)?( (B|KiB|MiB|GiB))?$/.test(String(row[at])),
      ),
  );
  const made = new Table({
    chars: plain,
    style: { 'padding-left': 0, 'padding-right': 0, head: [], border: [] },
    colAligns: right.map((is) => (is ? 'right' : 'left')),
    head: headings.map(dim),
  });
  const texts = rows.map((row) =>
    row.map((cell) => (cell === null ? '–' : typeof cell === 'number' ? cell.toLocaleString('en') : cell.replace(/[\r\n\t]+/g, '�'))),
  );
  for (const row of fitting(headings, texts)) made.push(row);
  return made
    .toString()
    .split('\n')
    .map((line) => line.trimEnd())
    .join('\n');
}

/** `name  value` lines. */
export function facts(pairs: [string, string][]): string {
  const width = Math.max(...pairs.map(([name]) => name.length));
  return pairs.map(([name, value]) => `${dim(name.padEnd(width))}  ${value}`).join('\n');
}

const MARKS: Record<Verdict, [string, Style]> = {
  good: ['✓', 'green'],
  weak: ['△', 'yellow'],
  wrong: ['✕', 'red'],
  missing: ['○', 'red'],
  waiting: ['…', 'cyan'],
  unknown: ['?', 'magenta'],
};

/** A verdict by shape, word and colour. */
export function mark(verdict: Verdict | null): string {
  if (verdict === null) return dim('–');
  const [shape, style] = MARKS[verdict];
  return styled(style, `${shape} ${verdict}`);
}

const STATE_STYLE: Record<RecipientState | 'refused' | 'accepted', Style> = {
  queued: 'cyan',
  delivered: 'green',
  relayed: 'green',
  delayed: 'yellow',
  failed: 'red',
  refused: 'red',
  accepted: 'green',
};
export const state = (name: keyof typeof STATE_STYLE): string => styled(STATE_STYLE[name], name);

export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`;
  for (const [unit, factor] of [
    ['KiB', 1024],
    ['MiB', 1024 ** 2],
    ['GiB', 1024 ** 3],
  ] as const)
    if (bytes < factor * 1024 || unit === 'GiB') return `${(bytes / factor).toFixed(bytes < factor * 10 ? 1 : 0)} ${unit}`;
  return '';
}

/** `1 h 5 min`, `3 min 20 s`, `45 s`. */
export function duration(seconds: number): string {
  if (seconds >= 3600) return `${Math.floor(seconds / 3600)} h ${Math.round((seconds % 3600) / 60)} min`;
  return seconds >= 60 ? `${Math.floor(seconds / 60)} min ${seconds % 60} s` : `${seconds} s`;
}

let isUtc = false;
/** Shows and reads times in UTC from here on, not in the zone of whoever calls. */
export const useUtc = (): void => {
  isUtc = true;
};
export const inUtc = (): boolean => isUtc;

/** The zone that times are shown in, by its name: `Europe/Madrid`, `UTC`. */
export function zone(): string {
  const own = new Intl.DateTimeFormat().resolvedOptions().timeZone;
  return isUtc || /^(Etc\/)?(UTC|GMT|Universal|Zulu|UCT)$/.test(own) ? 'UTC' : own;
}
/** A heading over times, with their zone. */
export const zoned = (heading: string): string => `${heading} (${zone()})`;

/** `2026-11-23 14:05:09`, in the zone that is shown. */
export const time = (at: number): string =>
  // The Swedish way of writing a time is the ISO one.
  new Date(at).toLocaleString('sv-SE', { timeZone: zone() });
/** A time with thousandths. */
export const precise = (at: number): string => `${time(at)}.${String(Math.floor(at) % 1000).padStart(3, '0')}`;
/** A time in the middle of a text, with its zone. */
export const stamp = (at: number): string => `${time(at)} ${zone()}`;

/** `80 of 100` with a bar of ten marks. */
export function meter(used: number, limit: number | null): string {
  if (limit === null) return `${used.toLocaleString('en')}, no limit`;
  const full = limit === 0 ? 10 : Math.min(10, Math.floor((10 * used) / limit));
  const style: Style = used >= limit ? 'red' : used >= limit * 0.85 ? 'yellow' : 'green';
  return `${styled(style, '█'.repeat(full))}${dim('░'.repeat(10 - full))} ${used.toLocaleString('en')} of ${limit.toLocaleString('en')}`;
}

export const count = (number: number, one: string, more = `${one}s`): string =>
  `${number.toLocaleString('en')} ${number === 1 ? one : more}`;

/** An empty list, with the way out of it. */
export const nothing = (what: string, how: string): string => `There are no ${what} yet. ${dim(`Add one: ${how}`)}`;

/** One line on the terminal that is written over; nothing where nobody watches. */
export function progress(text: string): void {
  if (process.stderr.isTTY) process.stderr.write(`\r\u001b[K${text}`);
}
