import { InvalidArgumentError } from 'commander';
import type { LimitUse, LimitValue } from '../api/mail-schemas.ts';
import { PERIODS, type Period, QUANTITIES, type Quantity } from '../core/vocabulary.ts';
import { limitText, periodText } from '../texts/en/limits.ts';
import { sizeOption } from './numbers.ts';
import { dim, meter, size, stamp, styled, table } from './output.ts';

export type LimitArgument = Omit<LimitValue, 'amount'> & { amount: number | null | 'plan' };

/** `day=1000`, `month:bytes=50G`, `hour=none`, `day:messages=plan`; without a quantity sends are meant. */
export function limitArgument(text: string): LimitArgument {
  const [, period = '', quantity = 'sends', value = ''] = /^([a-z-]+)(?::([a-z]+))?=(.+)$/i.exec(text.trim()) ?? [];
  if (!PERIODS.includes(period as Period) || !QUANTITIES.includes(quantity as Quantity))
    throw new InvalidArgumentError(
      `Write a limit like day=1000 or month:bytes=50G; periods are ${PERIODS.join(', ')}, quantities ${QUANTITIES.join(', ')}.`,
    );
  return { period: period as Period, quantity: quantity as Quantity, amount: amountOf(value, quantity as Quantity) };
}

export function limitArguments(text: string, before: LimitArgument[] = []): LimitArgument[] {
  return [...before, limitArgument(text)];
}

function amountOf(text: string, quantity: Quantity): number | null | 'plan' {
  if (text === 'none') return null;
  if (text === 'plan') return 'plan';
  if (quantity === 'bytes') return sizeOption(text);
  if (!/^\d{1,12}$/.test(text)) throw new InvalidArgumentError(`“${text}” is not an amount: give a whole number, none or plan.`);
  return Number(text);
}

const figure = (number: number, quantity: Quantity): string => (quantity === 'bytes' ? size(number) : number.toLocaleString('en'));

/** `1,000 sends per day`, `2.0 GiB per hour`. */
export const limitLine = (limit: Pick<LimitUse, 'period' | 'quantity' | 'amount'>): string => limitText(limit, size);

/** Limits with what is used of them. */
export function limitTable(limits: readonly LimitUse[]): string {
  if (limits.length === 0) return dim('No limits.');
  return table(
    ['per', 'of', 'used', 'source', ''],
    limits.map((one) => [
      periodText(one.period),
      one.quantity,
      one.quantity === 'bytes' && one.amount !== null
        ? `${size(one.used)} of ${size(one.amount)} (${one.amount === 0 ? 100 : Math.floor((100 * one.used) / one.amount)} %)`
        : meter(one.used, one.amount),
      origin(one),
      roomText(one),
    ]),
  );
}

function origin(one: LimitUse): string {
  if (one.from === 'plan') return 'the plan';
  if (one.raise) return styled('cyan', `raised until ${stamp(one.raise.until)}: ${one.raise.reason}`);
  return `its own${one.planAmount === null ? '' : ` (plan: ${figure(one.planAmount, one.quantity)})`}`;
}

export function roomText(one: Pick<LimitUse, 'used' | 'amount' | 'roomAt' | 'reserved'>): string {
  const promised = one.reserved > 0 ? dim(` ${one.reserved.toLocaleString('en')} reserved by open connections`) : '';
  if (one.amount === null || one.used < one.amount) return promised.trim();
  return styled('red', one.roomAt === null ? 'full' : `full, room again at ${stamp(one.roomAt)}`) + promised;
}
