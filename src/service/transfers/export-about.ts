import { breathe } from '../../core/pieces.ts';
import type { ExportOrder } from '../../core/transfer/order.ts';
import { domainsExported } from '../../store/transfer/export-rows.ts';
import type { ExportAbout } from '../../store/transfer/thread.ts';
import { recordSheet } from '../dns/record-sheets.ts';
import type { TransferDeps } from './deps.ts';

/** What an export says beside its mail: the records of each domain, as a zone file. */
export async function aboutExport(context: TransferDeps, order: ExportOrder): Promise<ExportAbout> {
  const { db, host, version, clock } = context;
  const zones: Record<string, string> = {};
  // A mailbox is no matter of DNS.
  for (const { name } of order.what === 'mailbox' ? [] : domainsExported(db, order)) {
    await breathe();
    zones[name] = (await recordSheet(context, name)).zone;
  }
  return { version, host: host.name, at: clock.now(), zones };
}
