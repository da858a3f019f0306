import { z } from 'zod';
import { MOVE_STATES, MOVE_STEPS } from '../core/vocabulary.ts';
import { at } from './base-schemas.ts';
import { imapImport } from './transfer-schemas.ts';

/** Shapes of move plans: the paths by which domains move here. */

export const movePlan = z
  .object({
    domain: z.string(),
    server: z.string().meta({ description: 'The server its mail comes from' }),
    oldServer: z.string().nullable().meta({ description: 'Its mail is passed on to this server; null if it stays here' }),
    begunAt: at,
    step: z.enum(MOVE_STEPS).nullable().meta({ description: 'The step that matters now; null when all complete' }),
    state: z.enum(MOVE_STATES),
    said: z.string(),
    lookedAt: at.nullable().meta({ description: 'When its DNS was last checked' }),
  })
  .meta({ id: 'MovePlan' });
export type MovePlan = z.output<typeof movePlan>;

export const movePlanDetails = movePlan
  .extend({
    accounts: z.array(z.object({ user: z.string(), address: z.string() })),
    quietHours: z.int(),
    hasMaster: z.boolean().meta({ description: 'Whether a master user is used' }),
    steps: z.array(
      z.object({
        step: z.enum(MOVE_STEPS),
        state: z.enum(MOVE_STATES),
        said: z.string(),
        advice: z.string().meta({ description: 'What to do; empty if nothing' }),
        until: at.nullable().meta({ description: 'Until when it waits' }),
        isOurs: z.boolean().meta({ description: 'Whether it can be started; others depend on DNS' }),
      }),
    ),
  })
  .meta({ id: 'MovePlanDetails' });
export type MovePlanDetails = z.output<typeof movePlanDetails>;

export const newMovePlan = imapImport.omit({ untilQuietHours: true, isTrial: true }).extend({
  mailServer: z
    .string()
    .max(260, 'at most 260 characters')
    .nullable()
    .default(null)
    .meta({ description: 'Current mail server, as host or host:port; null for the one in its MX records' }),
  quietHours: z
    .int('a number of hours')
    .min(1, 'at least 1')
    .max(720, 'at most 720')
    .default(48)
    .meta({ description: 'The last pass ends when no mail has arrived at the old server for this long' }),
});

export const moveAccounts = imapImport.pick({ accounts: true });
const step = z.enum(MOVE_STEPS, `one of ${MOVE_STEPS.join(', ')}`);
export const moveStep = z.strictObject({ step });
export const nextStep = z.strictObject({ step: step.nullable().default(null).meta({ description: 'The step; null for the next' }) });

export const stepped = z
  .object({
    plan: movePlanDetails,
    passwords: z
      .array(z.object({ address: z.string(), password: z.string() }))
      .meta({ description: 'Generated passwords, shown only once' }),
    fault: z.string().nullable().meta({ description: 'What went wrong' }),
  })
  .meta({ id: 'MoveStepped' });
export type Stepped = z.output<typeof stepped>;
