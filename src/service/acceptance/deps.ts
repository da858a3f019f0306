import type { LimitsDeps } from '../limits/deps.ts';
import type { ReportLimit } from './report-limit.ts';

/** What taking a message needs. */
export interface AcceptanceDeps extends LimitsDeps {
  /** Proves the return addresses of forwarded mail. */
  returnKey: Buffer;
  /** Bounds reports to the outside. */
  reports: ReportLimit;
}
