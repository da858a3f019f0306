import type { Domain } from '../../store/domains.ts';
import type { DirectoryDeps } from '../directory/deps.ts';
import type { CheckRun } from './check-run.ts';

/** What checks and keys need. */
export interface DnsDeps extends DirectoryDeps {
  /** The last check of every domain, under way or done. */
  checkRuns: { latest: CheckRun | null };
  /** The name that a domain's people connect to: certificates decide which. */
  mailServer: (domain: Pick<Domain, 'name' | 'mailName' | 'twinOf'>) => string;
  /** Between two scheduled checks of a domain; 0 for no schedule. */
  checkEveryMs: number;
}
