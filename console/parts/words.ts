import { SUBJECT_WORDS, type Subject } from '../../src/core/vocabulary.ts';

/** A subject's name at the beginning of a line. */
export const subjectName = (subject: Subject): string => SUBJECT_WORDS[subject].replace(/^./, (letter) => letter.toUpperCase());

export const count = (number: number, one: string, more = `${one}s`): string =>
  `${number.toLocaleString('en')} ${number === 1 ? one : more}`;

export function size(bytes: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];
  let value = bytes;
  let unit = 0;
  while (value >= 1024 && unit < units.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return `${unit === 0 || value >= 10 ? Math.round(value) : value.toFixed(1)} ${units[unit]}`;
}

const TIME = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'medium' });
const SHORT = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' });
const CLOCK = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit', fractionalSecondDigits: 3 });

export const fullTime = (at: number): string => TIME.format(at);
export const shortTime = (at: number): string => SHORT.format(at);
export const clockTime = (at: number): string => CLOCK.format(at);
export const day = (at: number): string => new Date(at).toISOString().slice(0, 10);

/** “3 minutes ago”. */
export function ago(at: number, now = Date.now()): string {
  const seconds = Math.max(0, Math.round((now - at) / 1000));
  if (seconds < 45) return 'just now';
  if (seconds < 3600) return `${count(Math.round(seconds / 60), 'minute')} ago`;
  if (seconds < 86_400) return `${count(Math.round(seconds / 3600), 'hour')} ago`;
  return `${count(Math.round(seconds / 86_400), 'day')} ago`;
}
