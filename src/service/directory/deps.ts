import type { BaseDeps } from '../base/deps.ts';
import type { LongRuns } from '../base/long-runs.ts';
import type { LoadResult } from './lists/load-result.ts';
import type { SigningKeys } from './signing-keys.ts';

/** What those who keep customers, domains and mailboxes need. */
export interface DirectoryDeps extends BaseDeps {
  keys: SigningKeys;
  /** Lists that are being loaded. */
  loads: LongRuns<LoadResult>;
  /** How long a removed mailbox can be brought back; 0 for not at all. */
  keepRemovedDays: number;
}
