import { type Period, QUANTITY_WORDS, type Quantity } from '../../core/vocabulary.ts';

/** What a period is called after “per”, and what was used in it. */
const PERIOD_TEXTS: Record<Period, { per: string; used: string }> = {
  minute: { per: 'minute', used: 'in a minute' },
  hour: { per: 'hour', used: 'in the last hour' },
  day: { per: 'day', used: 'in the last 24 hours' },
  'calendar-day': { per: 'calendar day', used: 'today' },
  month: { per: 'month', used: 'this month' },
};
export const periodText = (period: Period): string => PERIOD_TEXTS[period].per;
export const usedInText = (period: Period): string => PERIOD_TEXTS[period].used;

interface LimitToTell {
  period: Period;
  quantity: Quantity;
  /** Null where there is none. */
  amount: number | null;
}

const octetsText = (octets: number): string => `${octets.toLocaleString('en')} ${QUANTITY_WORDS.bytes[octets === 1 ? 0 : 1]}`;

/** `200 sends per hour`, `no limit of messages per day`; octets as `sizeText` tells them. */
export function limitText({ period, quantity, amount }: LimitToTell, sizeText = octetsText): string {
  const [one, several] = QUANTITY_WORDS[quantity];
  const what =
    amount === null
      ? `no limit of ${several}`
      : quantity === 'bytes'
        ? sizeText(amount)
        : `${amount.toLocaleString('en')} ${amount === 1 ? one : several}`;
  return `${what} per ${periodText(period)}`;
}
