import { z } from 'zod';
import { CLIENT_SERVICES, type ClientService } from '../../core/records/sheet.ts';
import type { RehearsalOrder } from '../../core/rehearsal/order.ts';
import type { RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { STEP_STATES } from '../../core/vocabulary.ts';

/** What hosts that are each other’s witnesses send to one another, read before anything is done with it. */

const name = z.string().regex(/^[a-z0-9_.-]{1,253}$/);
const host = z.strictObject({
  name,
  // Whoever takes the steps goes by the addresses that it finds itself.
  addresses: z.array(z.string().max(50)).max(20),
  fingerprints: z.array(z.string().max(200)).max(5000),
  renewed: z.array(z.string().max(253)).max(20_000),
});
const relay = z.strictObject({ domain: name, takesAll: z.boolean(), greeting: z.string().regex(/^[a-z0-9.-]{1,120}$/) });
// Nothing that ends a line, so that nobody says by us what no step says.
const letter = z.strictObject({ mark: z.string().regex(/^[a-z0-9]{20}$/), at: z.int().min(0).max(4e12) }).nullable();
const address = z.string().regex(/^[^\s<>\p{Cc}]{1,320}$/u);
const setting = z.strictObject({
  service: z.enum(Object.keys(CLIENT_SERVICES) as [ClientService, ...ClientService[]]),
  use: z.enum(['reading', 'sending']),
  protocol: z.enum(['IMAP', 'POP3', 'SMTP']),
  server: name,
  port: z.int().min(1).max(65_535),
  security: z.enum(['TLS', 'STARTTLS']),
});
const order = z.discriminatedUnion('kind', [
  z.strictObject({
    kind: z.literal('signin'),
    host,
    user: address,
    ways: z.array(z.strictObject({ setting, pass: z.string().regex(/^pass-[a-f0-9]{40}$/) })).max(10),
    letter,
  }),
  z.strictObject({ kind: z.literal('receive'), host, address, relay, letter }),
  z.strictObject({ kind: z.literal('relay'), host, relay }),
]);

const text = z.string().max(5000);
const ways = z
  .array(
    z.strictObject({
      name: text,
      steps: z
        .array(
          z.strictObject({
            key: z.string().max(50),
            name: text,
            state: z.enum(STEP_STATES),
            ms: z.number().nullable(),
            seen: text,
            action: text,
            said: z.array(z.strictObject({ by: z.enum(['us', 'them']), text })).max(100),
          }),
        )
        .max(50),
    }),
  )
  .max(20);

/** Null for what is none. */
export const readOrder = (value: unknown): RehearsalOrder | null => order.safeParse(value).data ?? null;
export const readWays = (value: unknown): RehearsalWay[] | null => ways.safeParse(value).data ?? null;

export const introduction = z.strictObject({
  name,
  url: z.string().max(500).nullable(),
  publicKey: z.string().max(100),
  proof: z.string().max(100),
});
