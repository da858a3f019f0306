import { z } from 'zod';
import { JUDGES, RECIPIENT_STATES, STOPS, TROUBLES } from '../core/vocabulary.ts';
import {
  at,
  journeyFields,
  limitUse,
  limitValue,
  listOf,
  listQuery,
  planLimits,
  planMail,
  policy,
  recipient,
  revision,
  role,
  text,
} from './base-schemas.ts';
import { domainSubject, verdict } from './dns-schemas.ts';

/** The shapes that the API takes and gives. The client, the console and the OpenAPI document all read these. */

const judge = z.enum(JUDGES, `one of ${JUDGES.join(', ')}`);
const bytes = z
  .int('a whole number of bytes')
  .min(1024 * 1024, 'at least 1 MiB')
  .max(1024 ** 4, 'at most 1 TiB');

export const customer = z
  .object({
    id: z.int(),
    name: z.string(),
    contact: z.string().nullable().meta({ description: 'Where warnings about its domains go by mail' }),
    createdAt: at,
    domains: z.int(),
    revision,
  })
  .meta({ id: 'Customer' });
export const CUSTOMER_ORDERS = ['name', 'domains', 'since'] as const;
export const newCustomer = z.strictObject({ name: text, contact: text.nullable().default(null) });
export const customerChanges = z.strictObject({ name: text, contact: text.nullable() }).partial();

export const plan = z
  .object({
    id: z.int(),
    name: z.string(),
    quotaBytes: z.int(),
    mostMailboxes: z.int(),
    ...planMail,
    limits: z.array(limitValue),
    mailboxLimits: z.array(limitValue),
    domains: z.int(),
    revision,
  })
  .meta({ id: 'Plan' });
const planValues = {
  ...planMail,
  limits: planLimits,
  mailboxLimits: planLimits,
  quotaBytes: bytes,
  mostMailboxes: z.int('a whole number').min(1, 'at least 1').max(100_000, 'at most 100,000'),
};
export const newPlan = z.strictObject({
  name: text,
  limits: planLimits.default([
    { period: 'hour', quantity: 'sends', amount: 200 },
    { period: 'day', quantity: 'sends', amount: 1000 },
  ]),
  mailboxLimits: planLimits.default([]),
  whenFull: planMail.whenFull.default('refuse'),
  holdMost: planMail.holdMost.default(500),
  holdHours: planMail.holdHours.default(24),
  unusual: planMail.unusual.default('flag'),
  brakeShare: planMail.brakeShare.default(40),
  brakeLeast: planMail.brakeLeast.default(20),
  quotaBytes: planValues.quotaBytes.default(1024 ** 3),
  mostMailboxes: planValues.mostMailboxes.default(25),
});
export const planChanges = z.strictObject({ name: text, ...planValues }).partial();

export const domain = z
  .object({
    id: z.int(),
    name: z.string(),
    display: z.string(),
    customer: z.string(),
    plan: z.string(),
    role,
    judge: judge.meta({ description: 'What happens to incoming mail that DMARC finds forged' }),
    dmarcStage: policy.meta({ description: 'How far the domain is to go with its own DMARC policy' }),
    catchAll: z.string().nullable(),
    twinOf: z.string().nullable(),
    twins: z.array(z.string()),
    mostBytes: z.int().nullable(),
    primaryServer: z.string().nullable().meta({ description: 'With the roles pass-on and standby: the server that has the mailboxes' }),
    recipientList: z
      .array(z.string())
      .nullable()
      .meta({ description: 'With those roles: the local parts that exist; null asks that server' }),
    stops: z.array(z.enum(STOPS)),
    mostMailboxes: z.int(),
    quotaBytes: z.int(),
    createdAt: at,
    mailboxes: z.int(),
    usedBytes: z.int(),
    checkedAt: at.nullable(),
    readiness: z.int().nullable(),
    mx: verdict.nullable(),
    spf: verdict.nullable(),
    dkim: verdict.nullable(),
    dmarc: verdict.nullable(),
    reverse: verdict.nullable(),
    limits: z.array(limitUse),
    revision,
  })
  .meta({ id: 'Domain' });
export const DOMAIN_ORDERS = ['name', 'customer', 'readiness', 'mailboxes', 'storage'] as const;
export const domainPage = listOf(domain);
export const domainQuery = listQuery(DOMAIN_ORDERS).extend({ customer: text.optional() });
export const newDomain = z.strictObject({
  name: text,
  customer: text,
  plan: text.default('standard'),
  role: role.default('home'),
  primaryServer: text.nullable().default(null),
});
export const domainChanges = z.strictObject({
  customer: text.optional(),
  plan: text.optional(),
  role: role.optional(),
  judge: judge.optional(),
  dmarc: policy.optional(),
  catchAll: text.nullable().optional(),
  mostBytes: z
    .int('a whole number of bytes')
    .min(1024, 'at least 1024')
    .max(1024 ** 3, 'at most 1 GiB')
    .nullable()
    .optional(),
  primaryServer: text.nullable().optional(),
  recipientList: z.array(text).max(100_000, 'at most 100,000 names').nullable().optional(),
});
export const twinInput = z.strictObject({ of: text });

export const mailbox = z
  .object({
    address: z.string(),
    local: z.string(),
    domain: z.string(),
    quotaBytes: z.int(),
    usedBytes: z.int(),
    messages: z.int(),
    createdAt: at,
    revision,
  })
  .meta({ id: 'Mailbox' });
export const MAILBOX_ORDERS = ['address', 'messages', 'storage', 'since'] as const;
export const mailboxResult = z.object({
  mailbox,
  password: z.string().nullable().meta({ description: 'The generated password, shown only once' }),
});
export const newMailbox = z.strictObject({
  address: text,
  password: z.string().max(1024).nullable().default(null),
  quotaBytes: bytes.nullable().default(null),
});
export const mailboxChanges = z.strictObject({ password: z.string().max(1024).nullable().optional(), quotaBytes: bytes.optional() });

export const alias = z
  .object({ address: z.string(), local: z.string(), domain: z.string(), targets: z.array(z.string()), revision })
  .meta({ id: 'Alias' });
export const ALIAS_ORDERS = ['address', 'since'] as const;
const targets = z.array(text, 'a list of addresses').max(1000);
export const newAlias = z.strictObject({ address: text, targets });
export const aliasChanges = z.strictObject({ targets });

export const removal = z.object({ goes: z.array(z.string()), stays: z.array(z.string()) }).meta({ id: 'Removal' });

export const network = z
  .object({
    id: z.int(),
    cidr: z.string(),
    note: z.string(),
    maySubmit: z.boolean().meta({ description: 'Whether clients there may send without signing in' }),
    domains: z.array(z.string()).meta({ description: 'As which domains; empty for any' }),
    createdAt: at,
    revision,
  })
  .meta({ id: 'Network' });
const networkValues = { note: text, maySubmit: z.boolean(), domains: z.array(text).max(1000) };
export const newNetwork = z.strictObject({ cidr: text, ...z.object(networkValues).partial().shape });
export const networkChanges = newNetwork;
export const networkName = z.strictObject({ cidr: text });

export const lockout = z
  .object({
    at: z.enum(['mailboxes', 'console']).meta({ description: 'Signing in to mailboxes (submission, POP3), or at the console' }),
    of: z.enum(['address', 'network', 'account', 'pair']).meta({
      description: 'An address, a wider network, an account for addresses that have failed at it, or one account from one address',
    }),
    name: z.string().meta({
      description: 'An IPv4 address, an IPv6 network of 64 bits, a wider network, an account as it was typed, or `ACCOUNT from ADDRESS`',
    }),
    domain: z.string().nullable().meta({ description: 'Of a mailbox here' }),
    failures: z.int(),
    last: at,
    until: at,
  })
  .meta({ id: 'Lockout' });
export const signInTrouble = z
  .object({
    id: z.int(),
    kind: z.enum(TROUBLES),
    service: z.enum(['submission', 'POP3']),
    client: z.string(),
    typed: z.string().nullable().meta({ description: 'What was typed as the name; null when it did not come so far' }),
    mailbox: z.string().nullable().meta({ description: 'Which is meant, as far as that is clear' }),
    domain: z.string().nullable(),
    times: z.int(),
    first: at,
    last: at,
    text: z.string(),
    remedy: z.string(),
  })
  .meta({ id: 'SignInTrouble' });
const clock = {
  wall: at.meta({ description: 'What the machine’s clock shows' }),
  service: at.meta({ description: 'The time by which the service waits and charges' }),
  aheadMs: z.int().meta({ description: 'How far the service’s time is ahead, because it once ran with a wrong clock' }),
  steppedMs: z.int().meta({ description: 'How far the machine’s clock was set since the start' }),
  chargesAhead: z.int().meta({ description: 'Charges that are dated after now' }),
};
export const clockReport = z.object(clock).meta({ id: 'ClockReport' });
export const clockRealigned = z.object({ ...clock, charges: z.int().meta({ description: 'Charges that were dated anew' }) });
export const webSession = z
  .object({
    id: z.int(),
    createdAt: at,
    usedAt: at,
    address: z.string(),
    program: z.string().meta({ description: 'What the browser says that it is' }),
    current: z.boolean().meta({ description: 'Whether it is the session that asks' }),
  })
  .meta({ id: 'WebSession' });
export const SESSION_ORDERS = ['used', 'since', 'address'] as const;
export const sessionEnd = z.strictObject({
  id: z.int().nullable().default(null).meta({ description: 'One session; null for all but the one that asks' }),
});
export const sessionsEnded = z.object({ ended: z.int() });
export const lockoutName = z.strictObject({ name: text });

export const entry = z
  .object({
    seq: z.int(),
    at,
    event: z.string(),
    text: z.string(),
    by: z.string().nullable().meta({ description: 'Who did it: account, token or face, and address; null for the service itself' }),
    data: z.record(z.string(), z.unknown()),
  })
  .meta({ id: 'JournalEntry' });
export const journeyView = z.object({ journey: z.object(journeyFields), recipients: z.array(recipient), entries: z.array(entry) });
export const journeyRow = z
  .object({ ...journeyFields, states: z.partialRecord(z.enum(RECIPIENT_STATES), z.int()), trouble: z.string().nullable() })
  .meta({ id: 'Journey' });
export const journeyList = z.object({
  rows: z.array(journeyRow),
  searchedTo: at.nullable().meta({ description: 'Nothing before that time was looked at, because enough was; null when all was' }),
});
export const journeyQuery = z.strictObject({
  search: text.default(''),
  domain: text.optional(),
  state: z.enum([...RECIPIENT_STATES, 'refused']).optional(),
  client: text.optional().meta({ description: 'The client’s address' }),
  since: z.coerce.number().optional(),
  before: z.coerce.number().optional(),
  limit: z.coerce.number().int().min(1).max(500).default(50),
});
export const journalEntry = entry.extend({ journeyId: z.string().nullable(), domain: z.string().nullable() });
export const journalList = z.object({
  rows: z.array(journalEntry),
  next: z.int().nullable().meta({ description: 'Ask again with this as `before` for what is older; null at the end' }),
});
export const journeyText = z.object({ text: z.string() });
export const liveQuery = z.strictObject({
  domain: text.optional(),
  journey: text.optional(),
  search: text.default(''),
  after: z.coerce.number().int().min(0).optional().meta({ description: 'Everything after this place; otherwise from now on' }),
});
export const journalQuery = z.strictObject({
  domain: text.optional(),
  limit: z.coerce.number().int().min(1).max(1000).default(50),
  before: z.coerce.number().int().optional().meta({ description: 'Only what is older than the entry of this number' }),
});

export const overview = z.object({
  host: z.string(),
  version: z.string(),
  startedAt: at,
  counts: z.object({ domains: z.int(), mailboxes: z.int(), queued: z.int(), delayed: z.int(), held: z.int() }),
  verdicts: z.record(domainSubject, z.partialRecord(verdict, z.int())),
  checkedAt: at.nullable(),
  oldestCheckAt: at.nullable(),
  attention: z.array(
    z.object({
      harm: z.enum(['high', 'middle', 'low']),
      kind: z.enum(['finding', 'limit', 'queue', 'unchecked', 'stop', 'unusual', 'lockout']),
      domain: z.string().nullable(),
      headline: z.string(),
      also: z.int(),
    }),
  ),
  outcomes: z.array(z.object({ hour: at, state: z.string(), sends: z.int() })),
  sends: z.int(),
  busiest: z.array(z.object({ domain: z.string(), sends: z.int(), limit: z.int().nullable() })),
});

export const session = z.object({ account: z.string(), csrfToken: z.string() }).meta({ id: 'Session' });
export const signIn = z.strictObject({ name: text, password: z.string().max(1024), code: text.nullable().default(null) });
export const passwordChange = z.strictObject({ current: z.string().max(1024), next: z.string().max(1024) });
export const token = z.object({ id: z.int(), name: z.string(), createdAt: at, usedAt: at.nullable() });
export const newTokenBody = z.strictObject({
  name: z
    .string()
    .trim()
    .min(1, 'a name')
    .max(100, 'at most 100 characters')
    .regex(/^(?!\.+$)[^/\p{Cc}\p{Cf}]+$/u, 'a name without slashes, that is more than dots'),
});
export const newTokenResult = z.object({ name: z.string(), token: z.string() });
export const nothing = z.object({});

/** RFC 9457 */
export const problem = z
  .object({
    type: z.string(),
    title: z.string(),
    status: z.int(),
    detail: z.string(),
    code: z.string(),
    remedy: z.string(),
    field: z.string().nullable(),
  })
  .meta({ id: 'Problem' });

export type Customer = z.infer<typeof customer>;
export type Plan = z.infer<typeof plan>;
export type Domain = z.infer<typeof domain>;
export type DomainPage = z.infer<typeof domainPage>;
export type Mailbox = z.infer<typeof mailbox>;
export type MailboxResult = z.infer<typeof mailboxResult>;
export type Alias = z.infer<typeof alias>;
export type Removal = z.infer<typeof removal>;
export type Network = z.infer<typeof network>;
export type ClockReport = z.infer<typeof clockReport>;
export type ClockRealigned = z.infer<typeof clockRealigned>;
export type WebSession = z.infer<typeof webSession>;
export type SignInTrouble = z.infer<typeof signInTrouble>;
export type Lockout = z.infer<typeof lockout>;
export type JourneyView = z.infer<typeof journeyView>;
export type JourneyRow = z.infer<typeof journeyRow>;
export type JournalEntry = z.infer<typeof journalEntry>;
export type Overview = z.infer<typeof overview>;
export type Session = z.infer<typeof session>;
export type Token = z.infer<typeof token>;
export type ProblemDocument = z.infer<typeof problem>;
