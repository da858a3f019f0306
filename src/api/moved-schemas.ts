import { z } from 'zod';
import { at } from './base-schemas.ts';

/** Shapes of addresses whose owner has gone elsewhere. */

export const movedAddress = z
  .object({
    address: z.string(),
    to: z.string().nullable().meta({ description: 'Told to whoever writes; null where it is not' }),
    forwardUntil: at.nullable().meta({ description: 'Until then mail is led there' }),
    since: at,
  })
  .meta({ id: 'MovedAddress' });
export type MovedAddress = z.output<typeof movedAddress>;

const address = z.string().min(3, 'an address').max(320, 'at most 320 characters');
export const newMove = z.strictObject({
  address,
  to: address.nullable().default(null).meta({ description: 'The new address; without it, it is not told' }),
  forwardDays: z.int('a number of days').min(0, 'not below 0').max(3660, 'at most 3660').default(0),
});
