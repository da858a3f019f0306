import type { TransferOrder } from '../../core/transfer/order.ts';
import type { Sink } from '../../core/transfer/sink.ts';
import type { ExportAbout } from '../../store/transfer/thread.ts';
import type { BackupKeeper } from '../backups/backup-keeper.ts';
import type { BackupDeps } from '../backups/deps.ts';
import type { DirectoryDeps } from '../directory/deps.ts';
import type { DnsDeps } from '../dns/deps.ts';
import type { MailboxDeps } from '../mailbox/deps.ts';

/** Work in a thread of its own; `result` is what it says of itself in the end. */
export type StartTransfer = (
  order: TransferOrder,
  about: { export: ExportAbout | null; at: { address: string; port: number } | null },
  sink: Sink,
) => { result: Promise<string | null>; stop(): Promise<void> };

/** What carrying mail needs. */
export interface TransferDeps extends BackupDeps, DirectoryDeps, DnsDeps, MailboxDeps {
  startTransfer: StartTransfer;
  backups: Pick<BackupKeeper, 'meant'>;
  /** Where a server is found, by its name or address. */
  whereIs: (host: string, port: number) => Promise<{ address: string; port: number } | 'own-machine' | null>;
}
