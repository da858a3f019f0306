import type { Release } from '../../core/updates/changelog.ts';
import { releasesBetween } from '../../core/updates/versions.ts';
import { listVersionRuns, noteVersionRun, type VersionRun } from '../../store/version-runs.ts';
import type { OverviewDeps } from './deps.ts';

export interface Versions {
  version: string;
  databaseVersion: number;
  /** Those that have run here, the newest first. */
  runs: VersionRun[];
  /** What the last change of version brought; of the first version here nothing. */
  brought: Release[];
}

/** At a start: another version than before is noted. */
export const noteVersion = ({ db, clock, version }: OverviewDeps): Promise<void> =>
  db.commit(() => noteVersionRun(db, version, clock.now()));

export function showVersions({ db, version, changelog }: OverviewDeps): Versions {
  const runs = listVersionRuns(db);
  const before = runs[1];
  return {
    version,
    databaseVersion: db.version(),
    runs,
    brought: before ? releasesBetween(changelog(), before.version, version) : [],
  };
}
