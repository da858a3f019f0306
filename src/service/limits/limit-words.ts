import type { Limit } from '../../core/limits/amounts.ts';
import { QUANTITY_WORDS } from '../../core/vocabulary.ts';
import type { Refusal } from './refusal.ts';

/** `200 sends per hour`, `5,000,000 octets per month`. */
export function limitWords({ amount, quantity, period }: Limit): string {
  const [one, more] = QUANTITY_WORDS[quantity];
  return `${amount.toLocaleString('en')} ${amount === 1 ? one : more} per ${period.replace('-', ' ')}`;
}

/** When there is room again, for the reply to a sender. */
export function roomWords(refusal: Refusal, roomAt: number | null): string {
  if (roomAt !== null) return `there is room again at ${new Date(roomAt).toISOString().slice(0, 19).replace('T', ' ')} UTC`;
  return refusal.never ? 'the limit must be raised first' : 'the rest is promised to open connections, try again in a minute';
}
