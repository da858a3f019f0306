import { z } from 'zod';
import { RECIPIENT_STATES } from '../core/vocabulary.ts';
import { at, journeyFields, recipient, text } from './base-schemas.ts';

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
const journeyRow = z
  .object({ ...journeyFields, states: z.partialRecord(z.enum(RECIPIENT_STATES), z.int()), trouble: z.string().nullable() })
  .meta({ id: 'Journey' });
export const journeyList = z.object({
  rows: z.array(journeyRow),
  searchedTo: at.nullable().meta({ description: 'Entries before this time were not searched; null if all were' }),
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
const journalEntry = entry.extend({ journeyId: z.string().nullable(), domain: z.string().nullable() });
export const journalList = z.object({
  rows: z.array(journalEntry),
  next: z.int().nullable().meta({ description: 'Pass it as `before` for older ones; null at the end' }),
});
export const journeyText = z.object({ text: z.string() });
export const liveQuery = z.strictObject({
  domain: text.optional(),
  journey: text.optional(),
  search: text.default(''),
  after: z.coerce.number().int().min(0).optional().meta({ description: 'Entries after this position (default: from now on)' }),
});
export const journalQuery = z.strictObject({
  domain: text.optional(),
  limit: z.coerce.number().int().min(1).max(1000).default(50),
  before: z.coerce.number().int().optional().meta({ description: 'Only entries before this number' }),
});
export type JourneyView = z.infer<typeof journeyView>;
export type JourneyRow = z.infer<typeof journeyRow>;
export type JournalEntry = z.infer<typeof journalEntry>;
