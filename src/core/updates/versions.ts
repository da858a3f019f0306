import { compare, satisfies, valid } from 'semver';
import type { Release } from './changelog.ts';

/** Whether that is the text of a version. */
export const isVersion = (text: string): boolean => valid(text) === text;

/** Below 0: the first is older. */
export const compareVersions = (one: string, other: string): number => compare(one, other);

/** Whether a Node of that version runs what asks for such a range. */
export const fitsNode = (version: string, range: string): boolean => satisfies(version.replace(/^v/, ''), range);

/** What came after one version, up to and with another; the newest first. */
export const releasesBetween = (releases: readonly Release[], from: string, to: string): Release[] =>
  releases.filter(({ version }) => isVersion(version) && compare(version, from) > 0 && compare(version, to) <= 0);
