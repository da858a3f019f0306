import { z } from 'zod';
import { MESSAGE_SUBJECTS, VERDICTS } from '../core/vocabulary.ts';
import { at } from './base-schemas.ts';

/** Shapes of messages that are scored. */

const points = z.int().nullable();
const head = {
  id: z.int(),
  address: z.string().nullable().meta({ description: 'Takes one message; null for a sample of what a domain sends' }),
  domain: z.string().nullable().meta({ description: 'The domain that a sample is of' }),
  state: z.enum(['waiting', 'arrived', 'scored', 'expired']),
  madeAt: at,
  expiresAt: at.meta({ description: 'From then on the address takes nothing' }),
  arrivedAt: at.nullable(),
  journeyId: z.string().nullable(),
  sender: z.string().nullable().meta({ description: 'Of the envelope' }),
  subject: z.string().nullable(),
  size: z.int().nullable(),
  scoredAt: at.nullable(),
  points: points.meta({ description: 'What the message is worth, of `outOf`' }),
  outOf: points.meta({ description: '100, less what nobody could answer' }),
};
const finding = z
  .object({
    subject: z.enum(MESSAGE_SUBJECTS),
    code: z.string(),
    verdict: z.enum(VERDICTS),
    headline: z.string(),
    seen: z.array(z.string()),
    why: z.string(),
    remedy: z.string().meta({ description: 'What to do; empty where there is nothing' }),
    costs: z.int().meta({ description: 'Points that it takes away' }),
  })
  .meta({ id: 'MessageFinding' });
export type MessageFinding = z.output<typeof finding>;

export const trialHead = z.object(head).meta({ id: 'TrialHead' });
export type TrialHead = z.output<typeof trialHead>;
export const trial = z
  .object({
    ...head,
    beforeAt: at.nullable().meta({ description: 'When it was scored the time before' }),
    pointsBefore: points,
    outOfBefore: points,
    subjects: z.array(z.object({ subject: z.enum(MESSAGE_SUBJECTS), worth: z.int(), costs: z.int(), costsBefore: z.int().nullable() })),
    findings: z.array(finding).meta({ description: 'The dearest first' }),
    mended: z.array(finding).meta({ description: 'What cost something the time before, and is gone' }),
  })
  .meta({ id: 'Trial' });
export type Trial = z.output<typeof trial>;
