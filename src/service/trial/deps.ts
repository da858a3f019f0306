import type { DnsDeps } from '../dns/deps.ts';
import type { AccessDesk } from '../mailbox/access-desk.ts';
import type { ReceptionDeps } from '../reception/deps.ts';

/** What messages are scored with. */
export interface TrialDeps extends ReceptionDeps, DnsDeps {
  /** Where their texts are read. */
  desk: AccessDesk;
}
