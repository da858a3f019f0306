import { createHash } from 'node:crypto';
import { z } from 'zod';
import { DOMAIN_FIELDS } from '../resources/domain.ts';
import { namesOf } from '../resources/fields.ts';
import * as m from './mail-schemas.ts';
import * as b from './mailbox-schemas.ts';
import * as s from './schemas.ts';

/** What of a resource can be set: a change of that gives it a new revision; figures that change by themselves do not. */
const SETTABLE = new Map<z.ZodType, (value: never) => unknown>([
  [s.customer, only<s.Customer>('name', 'contact')],
  [s.plan, ({ id: _id, domains: _domains, ...values }: s.Plan) => values],
  [
    s.domain,
    only<s.Domain>(
      ...(['customer', 'plan', 'role', 'dmarcStage', 'twinOf', 'recipientCount', 'recipientsSetAt'] as const),
      ...namesOf(DOMAIN_FIELDS),
    ),
  ],
  [b.mailbox, only<b.Mailbox>('address', 'name', 'createdAt', 'quotaBytes', 'quotaMessages', 'appPasswordsOnly', 'pop3Junk', 'copyTo')],
  [s.alias, only<s.Alias>('address', 'targets')],
  [s.network, only<s.Network>('cidr', 'note', 'maySubmit', 'domains')],
  [m.outlet, ({ limits: _limits, ...values }: m.Outlet) => values],
  [
    m.limitsView,
    ({ limits, whenFull, holdMost, holdHours }: m.Limits) => [
      limits.map(({ period, quantity, amount, raise }) => [period, quantity, amount, raise]),
      whenFull,
      holdMost,
      holdHours,
    ],
  ],
  [m.notices, only<m.Notices>('mail')],
]);

/** The values of these fields, in this order. */
function only<Resource>(...names: (keyof Resource)[]): (value: Resource) => unknown[] {
  return (value) => names.map((name) => value[name]);
}

/** Whether answers of that shape have a revision. */
export const isRevised = (schema: z.ZodType): boolean => SETTABLE.has(schema);

/** An answer with the revision of each resource in it. */
export function withRevisions(schema: z.ZodType, value: unknown): unknown {
  if (value === null || value === undefined) return value;
  if (schema instanceof z.ZodArray) return (value as unknown[]).map((one) => withRevisions(schema.element as z.ZodType, one));
  if (!(schema instanceof z.ZodObject)) return value;
  const settable = SETTABLE.get(schema);
  if (settable) return { ...value, revision: revisionOf(settable(value as never)) };
  const parts = Object.entries(schema.shape as Record<string, z.ZodType>).filter(
    ([, inner]) => inner instanceof z.ZodObject || inner instanceof z.ZodArray,
  );
  if (parts.length === 0) return value;
  const whole = { ...(value as Record<string, unknown>) };
  for (const [name, inner] of parts) whole[name] = withRevisions(inner, whole[name]);
  return whole;
}

/** 96 bits are enough to tell what was from what is. */
const revisionOf = (values: unknown): string => createHash('sha256').update(JSON.stringify(values)).digest('base64url').slice(0, 16);

/** Whether a revision is one that an If-Match field names (RFC 9110 §13.1.1); null when the field is none. */
export function matches(field: string, revision: string): boolean | null {
  if (field.trim() === '*') return true;
  const tags = field.split(',').map((one) => /^\s*(W\/)?"([\x21\x23-\x7e]*)"\s*$/.exec(one));
  if (tags.includes(null)) return null;
  // What is weak never matches here (§8.8.3.2).
  return tags.some((tag) => tag?.[1] === undefined && tag?.[2] === revision);
}
