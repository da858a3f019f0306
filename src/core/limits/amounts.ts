import type { Period, Quantity } from '../vocabulary.ts';

/** What is counted of accepted mail for outside: messages, sends (outside recipients) and octets of text, each message's once. */
export type Amounts = Record<Quantity, number>;

/** Periods that end at a time that everybody knows, and then begin anew. */
export type CalendarPeriod = Extract<Period, 'calendar-day' | 'month'>;

export interface Limit {
  period: Period;
  quantity: Quantity;
  amount: number;
}

export const NONE: Amounts = { messages: 0, sends: 0, bytes: 0 };

export const sum = (one: Amounts, other: Amounts): Amounts => ({
  messages: one.messages + other.messages,
  sends: one.sends + other.sends,
  bytes: one.bytes + other.bytes,
});
