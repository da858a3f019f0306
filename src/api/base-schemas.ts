import { z } from 'zod';

/** Shapes that the others are made of. */

export const PERIODS = ['minute', 'hour', 'day', 'month'] as const;
export const QUANTITIES = ['messages', 'sends', 'bytes'] as const;
export const HELD = ['limit', 'brake', 'pause', 'unusual', 'hand'] as const;
export const STATES = ['queued', 'delivered', 'delayed', 'relayed', 'failed'] as const;

export const POLICIES = ['none', 'quarantine', 'reject'] as const;
export const policy = z.enum(POLICIES, `one of ${POLICIES.join(', ')}`);
export const ROLES = ['home', 'pass-on', 'standby', 'away'] as const;
export const role = z.enum(ROLES, `one of ${ROLES.join(', ')}`);

export const at = z.number().meta({ description: 'Milliseconds since 1970, UTC' });
export const text = z.string().max(1000, 'at most 1000 characters');
export const period = z.enum(PERIODS, `one of ${PERIODS.join(', ')}`);
export const quantity = z.enum(QUANTITIES, `one of ${QUANTITIES.join(', ')}`);
export const amount = z
  .int('a whole number, or null for no limit')
  .min(0, 'not below 0')
  .max(1_000_000_000_000, 'at most 1,000,000,000,000')
  .nullable();
export const whenFull = z.enum(['refuse', 'hold'], 'refuse or hold');
export const holdMost = z.int('a whole number').min(1, 'at least 1').max(100_000, 'at most 100,000');
export const holdHours = z.int('a whole number').min(1, 'at least 1').max(120, 'at most 120');
export const amounts = { messages: z.int(), sends: z.int(), bytes: z.int() };

export const limitValue = z.object({ period, quantity, amount }).meta({ id: 'LimitValue' });
/** A list of limits in which none is named twice. */
export const eachOnce = <Limit extends { period: string; quantity: string }>(limit: z.ZodType<Limit>) =>
  z
    .array(limit, 'a list of limits')
    .max(24)
    .refine(
      (all) => new Set(all.map((one) => `${one.period} ${one.quantity}`)).size === all.length,
      'each limit once; one of them is named twice',
    );
export const planLimits = eachOnce(z.strictObject({ period, quantity, amount }));
/** What a plan says besides limits. */
export const planMail = {
  whenFull,
  holdMost,
  holdHours,
  unusual: z.enum(['off', 'flag', 'stop'], 'off, flag or stop'),
  brakeShare: z.int('a percentage, or null for no brake').min(1, 'at least 1').max(100, 'at most 100').nullable(),
  brakeLeast: z.int('a whole number').min(1, 'at least 1').max(100_000, 'at most 100,000'),
};

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
    reserved: z.int().meta({ description: 'Promised to open connections' }),
    roomAt: at.nullable().meta({ description: 'While it is full: when one more fits again' }),
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
  state: z.enum(STATES),
  attempts: z.int(),
  nextAttemptAt: at.nullable(),
  reply: z.string().nullable(),
  changedAt: at,
  held: z.enum(HELD).nullable(),
});
