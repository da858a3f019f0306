import { z } from 'zod';
import { SIGN_IN_SERVICES, TROUBLES } from '../core/vocabulary.ts';
import { at, text } from './base-schemas.ts';

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
export const signIns = z
  .object({
    id: z.int(),
    mailbox: z.string(),
    isGood: z.boolean().meta({ description: 'Whether it succeeded; false if refused' }),
    service: z.enum(SIGN_IN_SERVICES),
    client: z.string().meta({ description: 'The client’s address; “others” for those beyond 200 a week' }),
    device: z.string().nullable().meta({ description: 'The name of the app password; null for the mailbox’s own password' }),
    times: z.int(),
    first: at,
    last: at,
  })
  .meta({ id: 'SignIns' });
export const signInTrouble = z
  .object({
    id: z.int(),
    kind: z.enum(TROUBLES),
    service: z.enum(SIGN_IN_SERVICES),
    client: z.string(),
    typed: z.string().nullable().meta({ description: 'The user name as typed; null if the attempt ended before' }),
    mailbox: z.string().nullable().meta({ description: 'The mailbox it was meant for, if known' }),
    domain: z.string().nullable(),
    times: z.int(),
    first: at,
    last: at,
    text: z.string(),
    remedy: z.string(),
  })
  .meta({ id: 'SignInTrouble' });
export const clock = {
  wall: at.meta({ description: 'What the machine’s clock shows' }),
  service: at.meta({ description: 'The service’s own time' }),
  aheadMs: z.int().meta({ description: 'How far the service’s time is ahead, after a wrong clock' }),
  steppedMs: z.int().meta({ description: 'How far the machine’s clock has jumped since the start' }),
  chargesAhead: z.int().meta({ description: 'Charges with a future date' }),
};
export const clockReport = z.object(clock).meta({ id: 'ClockReport' });
export const clockRealigned = z.object({ ...clock, charges: z.int().meta({ description: 'Redated charges' }) });
export const webSession = z
  .object({
    id: z.int(),
    createdAt: at,
    usedAt: at,
    address: z.string(),
    program: z.string().meta({ description: 'The browser’s own description' }),
    current: z.boolean().meta({ description: 'Whether it is the session of this request' }),
  })
  .meta({ id: 'WebSession' });
export const sessionEnd = z.strictObject({
  id: z.int().nullable().default(null).meta({ description: 'One session; null for all but this one' }),
});
export const sessionsEnded = z.object({ ended: z.int() });
export const lockoutName = z.strictObject({ name: text });

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
    .regex(/^(?!\.+$)[^/\p{Cc}\p{Cf}]+$/u, 'a name without slashes, not only dots'),
});
export const newTokenResult = z.object({ name: z.string(), token: z.string() });
export type ClockReport = z.infer<typeof clockReport>;
export type ClockRealigned = z.infer<typeof clockRealigned>;
export type WebSession = z.infer<typeof webSession>;
export type SignIns = z.infer<typeof signIns>;
export type SignInTrouble = z.infer<typeof signInTrouble>;
export type Lockout = z.infer<typeof lockout>;
export type Session = z.infer<typeof session>;
export type Token = z.infer<typeof token>;
