import type { OverviewDeps } from '../overview/deps.ts';

/** What moving a domain here needs: nearly everything takes part in it. */
export type MoveDeps = OverviewDeps;
