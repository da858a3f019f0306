import { z } from 'zod';
import { REHEARSALS, STEP_STATES } from '../core/vocabulary.ts';
import { at, text } from './base-schemas.ts';

/** Shapes of rehearsals. */

const head = {
  id: z.int(),
  kind: z.enum(REHEARSALS),
  subject: z.string().meta({ description: 'The subject of the test' }),
  recipient: z.string().nullable().meta({ description: 'The recipient of the message' }),
  witness: z.string().nullable().meta({ description: 'The witness that ran the test; null for this host' }),
  at,
  isGood: z.boolean(),
};
export const rehearsalHead = z.object(head).meta({ id: 'RehearsalHead' });
export type RehearsalHead = z.output<typeof rehearsalHead>;
export const rehearsal = z
  .object({
    ...head,
    beforeAt: at.nullable().meta({ description: 'When the same test ran before' }),
    ways: z.array(
      z.object({
        name: z.string(),
        steps: z.array(
          z.object({
            key: z.string(),
            name: z.string(),
            state: z.enum(STEP_STATES),
            before: z.enum(STEP_STATES).nullable().meta({ description: 'The state last time, if different' }),
            ms: z.number().nullable(),
            seen: z.string(),
            action: z.string().meta({ description: 'What to do; empty if nothing' }),
            journeyId: z.string().nullable().meta({ description: 'The message sent, if any' }),
            said: z
              .array(z.object({ by: z.enum(['us', 'them']), text: z.string() }))
              .meta({ description: 'The dialogue, without passwords' }),
          }),
        ),
      }),
    ),
  })
  .meta({ id: 'Rehearsal' });
export type Rehearsal = z.output<typeof rehearsal>;
const message = z.boolean('true or false').default(false).meta({ description: 'Whether a real message is sent, and followed' });
export const sendRehearsal = z.strictObject({ from: text, to: text, message });
const witness = text.nullable().default(null).meta({ description: 'The witness that runs the test; null for this host' });
export const addressRehearsal = z.strictObject({ address: text, witness, message });
export const relayRehearsal = z.strictObject({ witness });

const witnessValues = {
  name: z.string(),
  url: z.string().nullable().meta({ description: 'Its URL; null if it only asks' }),
  codeUntil: at.nullable().meta({ description: 'When its one-time code expires' }),
  addedAt: at,
  askedAt: at.nullable().meta({ description: 'When it last tested for this host' }),
  asksAt: at.nullable().meta({ description: 'When this host last tested for it' }),
  isIntroduced: z.boolean(),
};
export const witnessView = z.object(witnessValues).meta({ id: 'Witness' });
export type Witness = z.output<typeof witnessView>;
export const addedWitness = z
  .object({
    ...witnessValues,
    givenCode: z.string().nullable().meta({ description: 'One-time code for the other host; shown once' }),
  })
  .meta({ id: 'AddedWitness' });
export type AddedWitness = z.output<typeof addedWitness>;
export const newWitness = z.strictObject({
  name: text,
  url: text.nullable().default(null),
  code: text.nullable().default(null),
  ownUrl: text.nullable().default(null),
});
