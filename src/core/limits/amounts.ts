/** What is counted of accepted mail for outside: messages, sends (outside recipients) and octets of text, each message's once. */
export interface Amounts {
  messages: number;
  sends: number;
  bytes: number;
}

export const QUANTITIES = ['messages', 'sends', 'bytes'] as const;
export type Quantity = (typeof QUANTITIES)[number];

/** A minute for bursts; hour and day slide; month is the calendar's, in the provider's time zone. */
export const PERIODS = ['minute', 'hour', 'day', 'month'] as const;
export type Period = (typeof PERIODS)[number];

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
