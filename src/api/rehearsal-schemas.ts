import { z } from 'zod';
import { REHEARSALS, STEP_STATES } from '../core/vocabulary.ts';
import { at, text } from './base-schemas.ts';

/** Shapes of rehearsals. */

const head = {
  id: z.int(),
  kind: z.enum(REHEARSALS),
  subject: z.string().meta({ description: 'Whom it is about' }),
  at,
  isGood: z.boolean(),
};
export const rehearsalHead = z.object(head).meta({ id: 'RehearsalHead' });
export type RehearsalHead = z.output<typeof rehearsalHead>;
export const rehearsal = z
  .object({
    ...head,
    beforeAt: at.nullable().meta({ description: 'When the one before about the same was' }),
    ways: z.array(
      z.object({
        name: z.string(),
        steps: z.array(
          z.object({
            key: z.string(),
            name: z.string(),
            state: z.enum(STEP_STATES),
            before: z.enum(STEP_STATES).nullable().meta({ description: 'What it was the time before, where that was another' }),
            ms: z.number().nullable(),
            seen: z.string(),
            action: z.string().meta({ description: 'What to do; empty where there is nothing' }),
            said: z
              .array(z.object({ by: z.enum(['us', 'them']), text: z.string() }))
              .meta({ description: 'What was said on the wire, passwords left out' }),
          }),
        ),
      }),
    ),
  })
  .meta({ id: 'Rehearsal' });
export type Rehearsal = z.output<typeof rehearsal>;
export const sendRehearsal = z.strictObject({ from: text, to: text });
export const addressRehearsal = z.strictObject({ address: text });
