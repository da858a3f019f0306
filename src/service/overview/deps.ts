import type { Release } from '../../core/updates/changelog.ts';
import type { BackupKeeper } from '../backups/backup-keeper.ts';
import type { BackupDeps } from '../backups/deps.ts';
import type { CertificateDeps } from '../certificates/deps.ts';
import type { DnsDeps } from '../dns/deps.ts';
import type { JournalDeps } from '../journal/deps.ts';
import type { AccessDesk } from '../mailbox/access-desk.ts';
import type { MailboxDeps } from '../mailbox/deps.ts';
import type { NoticesDeps } from '../notices/deps.ts';
import type { Notices } from '../notices/notices.ts';
import type { ReceptionDeps } from '../reception/deps.ts';
import type { TransferDeps } from '../transfers/deps.ts';
import type { TransferKeeper } from '../transfers/transfer-keeper.ts';

/** A setting that is another one in the file than it is here. */
export interface SettingChange {
  key: string;
  from: string | null;
  to: string | null;
  /** Whether it is taken over while the service runs. */
  isLive: boolean;
}

/** The configuration as it runs, and as its file says. Both throw Problem for a file that can't be used. */
export interface LiveConfiguration {
  changes(): SettingChange[];
  /** Takes over what can be; returns all that is different. */
  reload(): Promise<SettingChange[]>;
}

/** What shows everything needs everything. */
export interface OverviewDeps
  extends ReceptionDeps,
    CertificateDeps,
    DnsDeps,
    JournalDeps,
    NoticesDeps,
    MailboxDeps,
    BackupDeps,
    TransferDeps {
  backups: BackupKeeper;
  transfers: TransferKeeper;
  configuration: LiveConfiguration;
  /** What each version of the program brought. */
  changelog: () => readonly Release[];
  notices: Notices;
  /** Where those who speak to mail programs ask. */
  desk: AccessDesk;
}
