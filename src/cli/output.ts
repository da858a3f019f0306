import { styleText } from 'node:util';
import Table from 'cli-table3';
import type { Verdict } from '../api/dns-schemas.ts';
import type { RecipientState } from '../api/schemas.ts';

type Style = Parameters<typeof styleText>[0];

const colours = (): boolean => process.stdout.isTTY === true && !process.env['NO_COLOR'];
export const styled = (style: Style, text: string): string => (colours() ? styleText(style, text) : text);
export const dim = (text: string): string => styled('dim', text);
export const bold = (text: string): string => styled('bold', text);

/** Nothing from outside may steer the terminal: control characters are shown as marks. */
export const safe = (text: string): string => text.replace(/[\p{Cc}\u202a-\u202e\u2066-\u2069]/gu, '�');

export const say = (text = ''): void => {
  process.stdout.write(`${text}\n`);
};

/** Whether the result is to be printed as JSON. */
export type Json = () => boolean;

/** Prints the result as JSON, or as `human` puts it. */
export function show<T>(json: Json, value: T, human: (value: T) => string): void {
  say(json() ? JSON.stringify(value, null, 2) : human(value));
}

/** Rows under dim headings, columns two spaces apart. Numbers are set to the right. */
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
  for (const row of rows) made.push(row.map((cell) => (cell === null ? '–' : typeof cell === 'number' ? cell.toLocaleString('en') : cell)));
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

/** `2026-11-23 14:05:09`, UTC. */
export const time = (at: number): string => new Date(at).toISOString().slice(0, 19).replace('T', ' ');

/** `80 of 100` with a bar of ten marks. */
export function meter(used: number, limit: number | null): string {
  if (limit === null) return `${used.toLocaleString('en')}, no limit`;
  const full = limit === 0 ? 10 : Math.min(10, Math.floor((10 * used) / limit));
  const style: Style = used >= limit ? 'red' : used >= limit * 0.85 ? 'yellow' : 'green';
  return `${styled(style, '█'.repeat(full))}${dim('░'.repeat(10 - full))} ${used.toLocaleString('en')} of ${limit.toLocaleString('en')}`;
}

export const shortened = (text: string, most: number): string => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

export const count = (number: number, one: string, more = `${one}s`): string =>
  `${number.toLocaleString('en')} ${number === 1 ? one : more}`;

/** An empty list, with the way out of it. */
export const nothing = (what: string, how: string): string => `There are no ${what} yet. ${dim(`Add one: ${how}`)}`;
