import { z } from 'zod';
import { HELD, ORDERS } from '../core/vocabulary.ts';
import { at, journeyFields, listQuery, next, recipient, text } from './base-schemas.ts';

export const queueItem = recipient
  .extend({
    journeyId: z.string(),
    sender: z.string().nullable(),
    onwardSender: z.string().nullable(),
    mailbox: z.string().nullable(),
    acceptedAt: at,
    senderDomain: z.string().nullable(),
    kind: journeyFields.kind,
    size: z.int(),
    heldAt: at.nullable(),
    messageId: z.string().nullable(),
  })
  .meta({ id: 'QueueItem' });
const selection = {
  domain: text.optional().meta({ description: 'The domain on this server' }),
  destination: text.optional(),
  sender: text.optional(),
  held: z.enum([...HELD, 'any', 'none']).optional(),
};
export const queueQuery = listQuery(ORDERS.queue)
  .omit({ search: true })
  .extend({ ...selection, id: text.optional(), olderThanMinutes: z.coerce.number().min(0).optional() });
export const queueList = z.object({ recipients: z.int(), messages: z.int(), rows: z.array(queueItem), next });
export const destinationsQuery = z.strictObject({
  limit: z.coerce.number().int().min(1).max(500).default(500),
  offset: z.coerce.number().int().min(0).default(0),
});
export const queueDestinations = z.object({
  total: z.int(),
  rows: z.array(
    z.object({
      destination: z.string(),
      recipients: z.int(),
      held: z.int(),
      delayed: z.int(),
      oldestAt: at,
      nextAttemptAt: at.nullable(),
      lastReply: z.string().nullable(),
    }),
  ),
});
export const queueAct = z.strictObject({
  act: z.enum(['retry', 'hold', 'release', 'drop'], 'one of retry, hold, release, drop'),
  ids: z.array(text).min(1).max(1000).optional(),
  ...selection,
  olderThanMinutes: z.number().min(0).optional(),
  expected: z.int().nullable().default(null).meta({ description: 'The expected number; otherwise nothing is done' }),
  reason: text.default(''),
});
export const acted = z.object({ recipients: z.int() });

export type QueueItem = z.infer<typeof queueItem>;
export type QueueList = z.infer<typeof queueList>;
export type QueueDestinations = z.infer<typeof queueDestinations>;
