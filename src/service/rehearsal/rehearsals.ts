import { changesSince, type Rehearsal } from '../../core/rehearsal/rehearsal.ts';
import type { StepState } from '../../core/vocabulary.ts';
import * as store from '../../store/rehearsals.ts';
import { Problem } from '../base/problem.ts';
import type { RehearsalDeps } from './deps.ts';

/** A rehearsal beside the one before about the same. */
export interface ComparedRehearsal extends Omit<Rehearsal, 'ways'> {
  /** When the one before was; null for the first. */
  beforeAt: number | null;
  ways: {
    name: string;
    steps: (Omit<Rehearsal['ways'][number]['steps'][number], 'journeyId'> & { before: StepState | null; journeyId: string | null })[];
  }[];
}

export const listRehearsals = ({ db }: RehearsalDeps) => store.listRehearsals(db);

export function showRehearsal(context: RehearsalDeps, id: number): ComparedRehearsal {
  const found = store.findRehearsal(context.db, id);
  if (!found) throw new Problem('not-found', `There is no rehearsal ${id}.`, 'List them: tenedor rehearse list');
  return compared(context, found);
}

/** `before` of a step is what it was, where that was another state. */
export function compared({ db }: RehearsalDeps, made: Rehearsal): ComparedRehearsal {
  const before = store.rehearsalBefore(db, made) ?? null;
  const changes = changesSince(before, made);
  return {
    ...made,
    beforeAt: before?.at ?? null,
    ways: made.ways.map(({ name, steps }) => ({
      name,
      steps: steps.map((step) => ({ ...step, before: changes.get(`${name} ${step.key}`) ?? null, journeyId: step.journeyId ?? null })),
    })),
  };
}
