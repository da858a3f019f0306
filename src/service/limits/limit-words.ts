import type { Refusal } from './refusal.ts';

/** When there is room again, for the reply to a sender. */
export function roomWords(refusal: Refusal, roomAt: number | null): string {
  if (roomAt !== null) return `there is room again at ${new Date(roomAt).toISOString().slice(0, 19).replace('T', ' ')} UTC`;
  return refusal.never ? 'the limit must be raised first' : 'the rest is reserved by open connections, try again in a minute';
}
