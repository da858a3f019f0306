import { InvalidArgumentError } from 'commander';

/** `250` or `none`; the argument parser has no place for null. */
export type LimitOption = number | 'none';

export function limitOption(text: string): LimitOption {
  return text === 'none' ? 'none' : wholeNumber(text);
}

/** As the API takes it. */
export const limitValue = (option: LimitOption): number | null => (option === 'none' ? null : option);

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
