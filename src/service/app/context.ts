import type { InsightDeps } from '../insight/deps.ts';

/** All that the use cases share; made once, at the start. */
export type ServiceContext = InsightDeps;
