import { z } from 'zod';
import { at } from './base-schemas.ts';

/** Shapes of addresses whose owner has gone elsewhere. */

export const movedAddress = z
  .object({
    address: z.string(),
    to: z.string().nullable().meta({ description: 'Shown to senders; null if private' }),
    forwardUntil: at.nullable().meta({ description: 'Mail is forwarded until then' }),
    since: at,
  })
  .meta({ id: 'MovedAddress' });
export type MovedAddress = z.output<typeof movedAddress>;

const address = z.string().min(3, 'an address').max(320, 'at most 320 characters');
export const newMove = z.strictObject({
  address,
  to: address.nullable().default(null).meta({ description: 'The new address; if missing, senders do not learn it' }),
  forwardDays: z.int('a number of days').min(0, 'not below 0').max(3660, 'at most 3660').default(0),
});
