import { z } from 'zod';
import { type DomainSubject, ORDERS, STOPS, SUBJECTS } from '../core/vocabulary.ts';
import { DOMAIN_FIELDS } from '../resources/domain.ts';
import { PLAN_FIELDS } from '../resources/plan.ts';
import { at, limitUse, limitValue, listOf, listQuery, planLimits, policy, revision, role, text } from './base-schemas.ts';
import { domainSubject, verdict } from './dns-schemas.ts';
import { shapesOf, startingShapesOf } from './field-shapes.ts';

/** The shapes that the API takes and gives. The client, the console and the OpenAPI document all read these. */

const domainFields = shapesOf(DOMAIN_FIELDS);
const planFields = shapesOf(PLAN_FIELDS);
export const customer = z
  .object({
    id: z.int(),
    name: z.string(),
    contact: z.string().nullable().meta({ description: 'Gets warnings about its domains by mail' }),
    createdAt: at,
    domains: z.int(),
    revision,
  })
  .meta({ id: 'Customer' });
export const newCustomer = z.strictObject({ name: text, contact: text.nullable().default(null) });
export const customerChanges = z.strictObject({ name: text, contact: text.nullable() }).partial();

export const plan = z
  .object({
    id: z.int(),
    name: z.string(),
    ...planFields,
    limits: z.array(limitValue),
    mailboxLimits: z.array(limitValue),
    domains: z.int(),
    revision,
  })
  .meta({ id: 'Plan' });
export const newPlan = z.strictObject({
  name: text,
  limits: planLimits.default([
    { period: 'hour', quantity: 'sends', amount: 200 },
    { period: 'day', quantity: 'sends', amount: 1000 },
  ]),
  mailboxLimits: planLimits.default([]),
  ...startingShapesOf(PLAN_FIELDS),
});
export const planChanges = z.strictObject({ name: text, limits: planLimits, mailboxLimits: planLimits, ...planFields }).partial();

export const domain = z
  .object({
    id: z.int(),
    name: z.string(),
    display: z.string(),
    customer: z.string(),
    plan: z.string(),
    role,
    ...domainFields,
    dmarcStage: policy.meta({ description: 'The intended stage of the domain’s DMARC policy' }),
    twinOf: z.string().nullable(),
    twins: z.array(z.string()),
    oldServer: z.string().nullable().meta({ description: 'During a move: the server that its mail is passed on to' }),
    recipientCount: z
      .int()
      .nullable()
      .meta({ description: 'With those roles: number of known recipients; null if its own server is asked' }),
    recipientsSetAt: at.nullable(),
    stops: z.array(z.enum(STOPS)),
    mostMailboxes: z.int(),
    quotaBytes: z.int(),
    createdAt: at,
    mailboxes: z.int(),
    usedBytes: z.int(),
    usedMessages: z.int(),
    checkedAt: at.nullable(),
    readiness: z.int().nullable(),
    ...(Object.fromEntries(SUBJECTS.map((subject) => [subject, verdict.nullable()])) as Record<
      DomainSubject,
      z.ZodNullable<typeof verdict>
    >),
    limits: z.array(limitUse),
    revision,
  })
  .meta({ id: 'Domain' });
export const recipientNames = z.object({ recipients: z.array(z.string()).nullable() });
export const domainPage = listOf(domain);
export const domainQuery = listQuery(ORDERS.domains).extend({ customer: text.optional() });
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
  dmarc: policy.optional(),
  ...z.object(domainFields).partial().shape,
  recipientList: z.array(text).max(100_000, 'at most 100,000 names').nullable().optional(),
});
export const twinInput = z.strictObject({ of: text });

export const alias = z
  .object({ address: z.string(), local: z.string(), domain: z.string(), targets: z.array(z.string()), revision })
  .meta({ id: 'Alias' });
const targets = z.array(text, 'a list of addresses').max(1000);
export const newAlias = z.strictObject({ address: text, targets });
export const aliasChanges = z.strictObject({ targets });

export const removal = z.object({ goes: z.array(z.string()), stays: z.array(z.string()) }).meta({ id: 'Removal' });

export const network = z
  .object({
    id: z.int(),
    cidr: z.string(),
    note: z.string(),
    maySubmit: z.boolean().meta({ description: 'Whether its clients may send without signing in' }),
    anyDomain: z.boolean().meta({ description: 'Whether as any domain' }),
    domains: z.array(z.string()).meta({ description: 'Sender domains; empty for none, unless any' }),
    createdAt: at,
    revision,
  })
  .meta({ id: 'Network' });
const networkValues = { note: text, maySubmit: z.boolean(), anyDomain: z.boolean(), domains: z.array(text).max(1000) };
export const newNetwork = z.strictObject({ cidr: text, ...z.object(networkValues).partial().shape });
export const networkChanges = newNetwork;
export const networkName = z.strictObject({ cidr: text });

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
      harm: z.enum(['high', 'medium', 'low']),
      kind: z.enum([
        'finding',
        'limit',
        'queue',
        'unchecked',
        'stop',
        'unusual',
        'lockout',
        'certificate',
        'backup',
        'transfer',
        'move',
        'update',
      ]),
      domain: z.string().nullable(),
      headline: z.string(),
      also: z.int(),
    }),
  ),
  outcomes: z.array(z.object({ hour: at, state: z.string(), sends: z.int() })),
  sends: z.int(),
  busiest: z.array(z.object({ domain: z.string(), sends: z.int(), limit: z.int().nullable() })),
  access: z
    .object({ processes: z.int(), imap: z.int(), pop3: z.int(), underWay: z.int() })
    .meta({ description: 'Signed-in clients, the processes that serve them, and mailbox changes in progress' }),
});
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
export type RecipientNames = z.infer<typeof recipientNames>;
export type DomainPage = z.infer<typeof domainPage>;
export type Alias = z.infer<typeof alias>;
export type Removal = z.infer<typeof removal>;
export type Network = z.infer<typeof network>;
export type Overview = z.infer<typeof overview>;
export type ProblemDocument = z.infer<typeof problem>;
