import type { Period, Quantity } from '../vocabulary.ts';

/** What is counted of accepted mail for outside: messages, sends (outside recipients) and octets of text, each message's once. */
export type Amounts = Record<Quantity, number>;

export interface Limit {
  period: Period;
  quantity: Quantity;
  amount: number;
}

export const NONE: Amounts = { messages: 0, sends: 0, bytes: 0 };

export const BOUNDLESS: Amounts = { messages: Number.POSITIVE_INFINITY, sends: Number.POSITIVE_INFINITY, bytes: Number.POSITIVE_INFINITY };

/** What counts of one message: it itself and its octets with its first recipients, and not again with those that come later. */
export const amountsOf = ({ sends, bytes, isFirst = true }: { sends: number; bytes: number; isFirst?: boolean }): Amounts => ({
  messages: isFirst ? 1 : 0,
  sends,
  bytes: isFirst ? bytes : 0,
});

/** Adds to a sum, or takes off with a factor of -1. */
export function addTo<Sum extends Amounts>(sum: Sum, amounts: Amounts, factor: 1 | -1 = 1): Sum {
  sum.messages += factor * amounts.messages;
  sum.sends += factor * amounts.sends;
  sum.bytes += factor * amounts.bytes;
  return sum;
}
