import type { AcceptanceDeps } from '../acceptance/deps.ts';
import type { AccessDeps } from '../access/deps.ts';

/** What reading a mailbox needs. */
export interface MailboxDeps extends AccessDeps, AcceptanceDeps {
  /** Mailboxes that are open by POP3: one session at a time each (RFC 1939 §4). */
  openMailboxes: Set<number>;
}
