import type { Brakes } from './brakes.ts';
import type { StoppingDeps } from './set-stops-deps.ts';
import type { UnusualWatch } from './unusual.ts';

/** What counting and stopping need. */
export interface LimitsDeps extends StoppingDeps {
  brakes: Brakes;
  unusual: UnusualWatch;
}
