import { z } from 'zod';
import { HELD, PERIODS, POLICIES, QUANTITIES, type Quantity, RECIPIENT_STATES, ROLES } from '../core/vocabulary.ts';

/** Shapes that the others are made of. */

export const policy = z.enum(POLICIES, `one of ${POLICIES.join(', ')}`);
export const role = z.enum(ROLES, `one of ${ROLES.join(', ')}`);

export const revision = z.string().meta({ description: 'Changes with every change of the object; send it as If-Match' });
export const at = z.number().meta({ description: 'Milliseconds since 1970, UTC' });
/** One line: no control characters, which would break headers, tables and logs. */
export const text = z
  .string()
  .max(1000, 'at most 1000 characters')
  .regex(/^\P{Cc}*$/u, 'one line without control characters');
export const period = z.enum(PERIODS, `one of ${PERIODS.join(', ')}`).meta({
  description: 'Minute, hour and day are sliding; calendar-day and month start at midnight in the provider’s time zone',
});
export const quantity = z.enum(QUANTITIES, `one of ${QUANTITIES.join(', ')}`);
export const amount = z
  .int('a whole number, or null for no limit')
  .min(0, 'not below 0')
  .max(1_000_000_000_000, 'at most 1,000,000,000,000')
  .nullable();
export const whenFull = z.enum(['refuse', 'hold'], 'refuse or hold');
export const holdMost = z.int('a whole number').min(1, 'at least 1').max(100_000, 'at most 100,000');
export const holdHours = z.int('a whole number').min(1, 'at least 1').max(120, 'at most 120');
export const amounts = Object.fromEntries(QUANTITIES.map((one) => [one, z.int()])) as Record<Quantity, z.ZodInt>;

export const limitValue = z.object({ period, quantity, amount }).meta({ id: 'LimitValue' });
/** A list of limits in which none is named twice. */
export const eachOnce = <Limit extends { period: string; quantity: string }>(limit: z.ZodType<Limit>) =>
  z
    .array(limit, 'a list of limits')
    .max(24)
    .refine((all) => new Set(all.map((one) => `${one.period} ${one.quantity}`)).size === all.length, 'each limit only once');
export const planLimits = eachOnce(z.strictObject({ period, quantity, amount }));
const raise = z.object({ id: z.int(), period, quantity, amount, until: at, reason: z.string(), at });
export const limitUse = z
  .object({
    period,
    quantity,
    amount,
    from: z.enum(['plan', 'own', 'raised']).meta({ description: 'Where the limit comes from' }),
    planAmount: amount,
    raise: raise.nullable(),
    used: z.int(),
    reserved: z.int().meta({ description: 'Reserved by open connections' }),
    roomAt: at.nullable().meta({ description: 'While full: when there is room again' }),
  })
  .meta({ id: 'LimitUse' });
export const journeyFields = {
  id: z.string(),
  at,
  kind: z.enum(['received', 'submitted', 'report']),
  outcome: z.enum(['accepted', 'refused']),
  sender: z.string().nullable(),
  recipients: z.string(),
  subject: z.string(),
  size: z.int(),
  client: z.string(),
  domain: z.string().nullable(),
  mailbox: z.string().nullable(),
  messageId: z.string().nullable(),
};
export const recipient = z.object({
  id: z.int(),
  address: z.string(),
  domain: z.string(),
  state: z.enum(RECIPIENT_STATES),
  attempts: z.int(),
  nextAttemptAt: at.nullable(),
  reply: z.string().nullable(),
  changedAt: at,
  held: z.enum(HELD).nullable(),
});

/** Which part of a list is asked for; the first order is the usual one. */
export const listQuery = <const Names extends readonly [string, ...string[]]>(orders: Names) =>
  z.strictObject({
    search: text.default('').meta({ description: 'Only rows with this text' }),
    sort: z.enum(orders, `one of ${orders.join(', ')}`).default(orders[0] as never),
    reverse: z
      .enum(['true', 'false'], 'true or false')
      .default('false')
      .transform((is) => is === 'true'),
    offset: z.coerce.number().int().min(0).default(0),
    limit: z.coerce.number().int().min(1).max(500).default(100),
    after: z.string().optional().meta({ description: 'The `next` of the previous page, in the same order' }),
  });
export const next = z.string().nullable().meta({ description: 'Pass it as `after` for the next page; null on the last page' });

/** A part of a list. */
export const listOf = <Row extends z.ZodType>(row: Row) =>
  z.object({ total: z.int().meta({ description: 'Total number' }), rows: row.array(), next });

/** Octets, for quotas. */
export const bytes = z
  .int('a whole number of bytes')
  .min(1024 * 1024, 'at least 1 MiB')
  .max(1024 ** 4, 'at most 1 TiB');
/** A number of messages. */
export const messages = z.int('a whole number of messages').min(1, 'at least 1').max(1_000_000_000, 'at most a thousand million');
