import { z } from 'zod';
import { NOTICE_EVENTS, SCOPE_KINDS, STOPS, TLS_MODES } from '../core/vocabulary.ts';
import {
  amount,
  amounts,
  at,
  eachOnce,
  holdHours,
  holdMost,
  limitUse,
  type limitValue,
  period,
  quantity,
  revision,
  text,
  whenFull,
} from './base-schemas.ts';

/** The shapes of mail in motion: limits and ledger, what is stopped, the queue, ways out, notices. */

export const limitsView = z
  .object({
    scope: z.string(),
    kind: z.enum(SCOPE_KINDS),
    name: z.string(),
    limits: z.array(limitUse),
    whenFull,
    holdMost,
    holdHours,
    choiceFrom: z.enum(['plan', 'own']),
    waiting: z.int(),
    stop: z
      .object({ kind: z.enum(STOPS), scope: z.string() })
      .nullable()
      .meta({ description: 'What stops it from sending, whatever its limits' }),
    warnings: z.array(z.object({ period, quantity, level: z.int(), at })),
    revision,
  })
  .meta({ id: 'Limits' });
export const limitsChange = z.strictObject({
  limits: eachOnce(z.strictObject({ period, quantity, amount: z.union([amount, z.literal('plan')]) })).default([]),
  whenFull: z.enum(['refuse', 'hold', 'plan'], 'refuse, hold or plan').optional(),
  holdMost: holdMost.optional(),
  holdHours: holdHours.optional(),
});
export const newRaise = z.strictObject({ period, quantity: quantity.default('sends'), amount, until: at, reason: text });

const hour = z.object({ hour: at, ...amounts });
export const ledgerView = z.object({
  scope: z.string(),
  name: z.string(),
  limits: z.array(limitUse),
  since: at,
  total: z.object(amounts),
  hours: z.array(hour),
  lines: z.array(
    z.object({
      at,
      domain: z.string(),
      mailbox: z.string().nullable(),
      kind: z.enum(['submitted', 'forwarded']),
      journeyId: z.string(),
      ...amounts,
      subject: z.string().nullable(),
    }),
  ),
  lineCount: z.int().meta({ description: 'How many lines there are in all' }),
});
/** Which part of what was found is asked for. */
const partQuery = {
  limit: z.coerce.number().int().min(1).max(500).default(20),
  offset: z.coerce.number().int().min(0).default(0),
};
export const ledgerQuery = z.strictObject({
  ...partQuery,
  days: z.coerce.number().min(0.01, 'more than 0').max(366, 'at most 366').default(1),
});
export const statement = z
  .object({
    scope: z.string(),
    name: z.string(),
    removedAt: at.nullable().meta({ description: 'When it was removed; null if it exists' }),
    from: z.string(),
    to: z.string(),
    zone: z.string(),
    total: z.object(amounts),
    forwarded: z.object(amounts),
    days: z.array(z.object({ day: z.string(), ...amounts })),
    parts: z.array(z.object({ domain: z.string(), mailbox: z.string().nullable(), kind: z.enum(['submitted', 'forwarded']), ...amounts })),
  })
  .meta({ id: 'Statement' });
export const statementTable = z.object({ csv: z.string() });
export const statementQuery = z.strictObject({ from: text.optional(), to: text.optional() });
export const outcomeHour = z.object({ hour: at, state: z.string(), sends: z.int() });
export const sendingView = z.object({
  since: at,
  top: z.array(z.object({ domain: z.string(), mailbox: z.string().nullable(), ...amounts })),
  senders: z.int().meta({ description: 'How many have sent in all' }),
  outcomes: z.array(outcomeHour),
});
export const sendingQuery = z.strictObject({
  ...partQuery,
  domain: text.optional(),
  days: z.coerce.number().min(0.01, 'more than 0').max(366, 'at most 366').default(1),
  since: z.coerce.number().int().optional().meta({ description: 'Instead of days: from this time on, ms since 1970' }),
  before: z.coerce.number().int().optional(),
});
export const sendingFailures = z.object({
  reasons: z.array(z.object({ reason: z.string(), sends: z.int(), destinations: z.array(z.string()), lastAt: at })),
  total: z.int().meta({ description: 'How many reasons there are in all' }),
  whole: z.boolean().meta({ description: 'Whether every reply is included' }),
});

export const stop = z
  .object({
    scope: z.string(),
    kind: z.enum(STOPS),
    name: z.string(),
    sending: z.boolean(),
    receiving: z.boolean(),
    text: z.string(),
    figures: z.record(z.string(), z.unknown()),
    at,
    held: z.int(),
  })
  .meta({ id: 'Stop' });
export const newPause = z.strictObject({
  scope: text,
  sending: z.boolean().default(true),
  receiving: z.boolean().default(true),
  text: text.nullable().default(null).meta({ description: 'Text for senders and users' }),
});
export const scopeBody = z.strictObject({ scope: text });
export const stopBody = z.strictObject({ scope: text, kind: z.enum(STOPS, `one of ${STOPS.join(', ')}`) });

export const outlet = z
  .object({
    id: z.int(),
    name: z.string(),
    kind: z.enum(['direct', 'smart-host']),
    host: z.string().nullable(),
    port: z.int().nullable(),
    tls: z.enum(TLS_MODES),
    user: z.string().nullable(),
    hasPassword: z.boolean(),
    sourceIpv4: z.string().nullable(),
    sourceIpv6: z.string().nullable(),
    senders: z.object({ isAny: z.boolean(), customers: z.array(z.string()), domains: z.array(z.string()) }),
    destinations: z.array(z.string()),
    position: z.int(),
    isOn: z.boolean(),
    whenSpent: z.enum(['next', 'wait']),
    spfInclude: z.string().nullable(),
    createdAt: at,
    limits: z.array(limitUse),
    revision,
  })
  .meta({ id: 'Outlet' });
const names = z.array(text).max(1000);
const outletValues = {
  kind: z.enum(['direct', 'smart-host'], 'direct or smart-host'),
  host: text.nullable(),
  port: z.int('a port number').min(1, 'a port from 1').max(65_535, 'a port up to 65535').nullable(),
  tls: z.enum(TLS_MODES, `one of ${TLS_MODES.join(', ')}`),
  user: text.nullable(),
  password: text.nullable().meta({ description: 'It is never shown again' }),
  sourceIpv4: text.nullable(),
  sourceIpv6: text.nullable(),
  anySender: z.boolean(),
  customers: names,
  domains: names,
  destinations: names,
  position: z.int('a whole number').min(0, 'not below 0').max(100_000, 'at most 100,000'),
  isOn: z.boolean(),
  whenSpent: z.enum(['next', 'wait'], 'next or wait'),
  spfInclude: text.nullable(),
};
export const newOutlet = z.strictObject({ name: text, ...z.object(outletValues).partial().shape });
export const outletChanges = z.strictObject({ name: text, ...outletValues }).partial();
export const outletTestQuery = z.strictObject({ to: text.nullable().default(null) });
export const outletTest = z.object({
  outlet: z.string(),
  works: z.boolean(),
  steps: z.array(z.object({ step: z.string(), good: z.boolean(), text: z.string() })),
});

const noticeEvents = z.array(z.enum(NOTICE_EVENTS, `some of ${NOTICE_EVENTS.join(', ')}`)).max(10);
export const notices = z.object({ mail: noticeEvents, revision }).meta({ id: 'Notices' });
export const noticesInput = z.strictObject({ mail: noticeEvents });
export const webhook = z
  .object({
    id: z.int(),
    url: z.string(),
    events: z.array(z.string()),
    createdAt: at,
    lastAt: at.nullable(),
    lastAnswer: z.string().nullable(),
    waiting: z.int(),
  })
  .meta({ id: 'Webhook' });
export const newWebhook = z.strictObject({ url: text, events: noticeEvents.min(1).default([...NOTICE_EVENTS]) });
export const newWebhookResult = z.object({
  webhook,
  secret: z.string().meta({ description: 'Signs the requests; shown only once' }),
});
export const webhookTest = z.object({ status: z.int().nullable(), reason: z.string() });

export const explainQuery = z.strictObject({
  from: z.string().max(400, 'at most 400 characters'),
  to: z.string().max(400, 'at most 400 characters'),
  ip: text.optional(),
  as: text.optional().meta({ description: 'Signed in as this mailbox' }),
});
export const explanation = z
  .object({
    from: z.string(),
    to: z.string(),
    outcome: z.enum(['accepted', 'refused', 'held']),
    steps: z.array(
      z.object({
        step: z.enum(['client', 'sender', 'recipient', 'judgement', 'limit', 'way', 'end']),
        verdict: z.enum(['on', 'note', 'stop']),
        text: z.string(),
        rule: z.string(),
      }),
    ),
  })
  .meta({ id: 'Explanation' });

export type Explanation = z.infer<typeof explanation>;
export type Limits = z.infer<typeof limitsView>;
export type LimitUse = z.infer<typeof limitUse>;
export type LimitValue = z.infer<typeof limitValue>;
export type LedgerView = z.infer<typeof ledgerView>;
export type Statement = z.infer<typeof statement>;
export type SendingFailures = z.infer<typeof sendingFailures>;
export type SendingView = z.infer<typeof sendingView>;
export type Stop = z.infer<typeof stop>;
export type Outlet = z.infer<typeof outlet>;
export type OutletTest = z.infer<typeof outletTest>;
export type Notices = z.infer<typeof notices>;
export type Webhook = z.infer<typeof webhook>;
