import { addEntry, addJourney, addSteps, type JourneyFacts, type JourneyStep } from '../../store/journeys.ts';
import type { AcceptanceDeps } from './deps.ts';

/** Journals a refusal, so that “it was never sent” and “we refused it” can be told apart. */
export async function recordRefusal(
  context: AcceptanceDeps,
  journey: JourneyFacts,
  size: number,
  steps: readonly JourneyStep[],
  reason: { code: number; status: string | null; text: string; at: number },
): Promise<void> {
  const { db, metrics } = context;
  metrics.messages.inc({ kind: journey.kind, outcome: 'refused' });
  const write = (): void => {
    addJourney(db, journey, { outcome: 'refused', file: null, size });
    addSteps(db, journey.id, journey.domain, steps);
    addEntry(db, {
      at: reason.at,
      journeyId: journey.id,
      domain: journey.domain,
      event: 'refused',
      data: { reply: `${reason.code} ${reason.status ?? ''} ${reason.text}`.replace('  ', ' ') },
    });
  };
  await db.commit(write, { isRepeatable: true });
}
