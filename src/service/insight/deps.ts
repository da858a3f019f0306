import type { CertificateDeps } from '../certificates/deps.ts';
import type { DnsDeps } from '../dns/deps.ts';
import type { JournalDeps } from '../journal/deps.ts';
import type { AccessDesk } from '../mailbox/access-desk.ts';
import type { MailboxDeps } from '../mailbox/deps.ts';
import type { NoticesDeps } from '../notices/deps.ts';
import type { Notices } from '../notices/notices.ts';
import type { ReceptionDeps } from '../reception/deps.ts';

/** What shows everything needs everything. */
export interface InsightDeps extends ReceptionDeps, CertificateDeps, DnsDeps, JournalDeps, NoticesDeps, MailboxDeps {
  notices: Notices;
  /** Where those who speak to mail programs ask. */
  desk: AccessDesk;
}
