import type { AcceptanceDeps } from '../acceptance/deps.ts';
import type { AccessDeps } from '../access/deps.ts';

/** What reading a mailbox needs. */
export type MailboxDeps = AccessDeps & AcceptanceDeps;
