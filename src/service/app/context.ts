import type { RehearsalDeps } from '../rehearsal/deps.ts';
import type { TrialDeps } from '../trial/deps.ts';

/** All that the use cases share; made once, at the start. */
export type ServiceContext = RehearsalDeps & TrialDeps;
