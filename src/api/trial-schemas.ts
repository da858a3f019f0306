import { z } from 'zod';
import { MESSAGE_SUBJECTS, VERDICTS } from '../core/vocabulary.ts';
import { at } from './base-schemas.ts';

/** Shapes of messages that are scored. */

const points = z.int().nullable();
const head = {
  id: z.int(),
  address: z.string().nullable().meta({ description: 'Accepts one message; null for a sample of a domain’s mail' }),
  domain: z.string().nullable().meta({ description: 'The sample’s domain' }),
  state: z.enum(['waiting', 'arrived', 'scored', 'expired']),
  madeAt: at,
  expiresAt: at.meta({ description: 'When the address expires' }),
  arrivedAt: at.nullable(),
  journeyId: z.string().nullable(),
  sender: z.string().nullable().meta({ description: 'Of the envelope' }),
  subject: z.string().nullable(),
  size: z.int().nullable(),
  scoredAt: at.nullable(),
  points: points.meta({ description: 'The score, out of `outOf`' }),
  outOf: points.meta({ description: '100, less points that could not be judged' }),
};
const finding = z
  .object({
    subject: z.enum(MESSAGE_SUBJECTS),
    code: z.string(),
    verdict: z.enum(VERDICTS),
    headline: z.string(),
    seen: z.array(z.string()),
    why: z.string(),
    remedy: z.string().meta({ description: 'What to do; empty if nothing' }),
    costs: z.int().meta({ description: 'Points lost' }),
  })
  .meta({ id: 'MessageFinding' });
export type MessageFinding = z.output<typeof finding>;

export const trialHead = z.object(head).meta({ id: 'TrialHead' });
export type TrialHead = z.output<typeof trialHead>;
export const trial = z
  .object({
    ...head,
    beforeAt: at.nullable().meta({ description: 'When it was last scored' }),
    pointsBefore: points,
    outOfBefore: points,
    subjects: z.array(z.object({ subject: z.enum(MESSAGE_SUBJECTS), worth: z.int(), costs: z.int(), costsBefore: z.int().nullable() })),
    findings: z.array(finding).meta({ description: 'Most expensive first' }),
    mended: z.array(finding).meta({ description: 'Problems fixed since the last score' }),
  })
  .meta({ id: 'Trial' });
export type Trial = z.output<typeof trial>;
