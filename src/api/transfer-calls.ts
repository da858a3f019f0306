import type { z } from 'zod';
import type { ImapOrder } from '../core/transfer/order.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { backupContent } from '../service/backups/backup-content.ts';
import { badInput } from '../service/base/problem.ts';
import { type Call, type CallInput, call, pages } from './call.ts';
import * as t from './transfer-schemas.ts';

const idOf = (param: CallInput<never, never>['param']): number => {
  const id = Number(param('id'));
  if (!Number.isSafeInteger(id) || id < 1)
    throw badInput('id', 'That is not the number of a transfer.', 'List them: tenedor transfer list');
  return id;
};
const IMAP_PORTS = { tls: 993, starttls: 143 } as const;

/** Another server and its accounts, as an order has them. */
export const serverOf = ({
  mibPerSecond,
  port,
  fingerprint,
  ...more
}: Omit<z.output<typeof t.imapImport>, 'untilQuietHours' | 'isTrial'>): Omit<ImapOrder, 'kind' | 'untilQuietHours' | 'isTrial'> => ({
  ...more,
  port: port ?? IMAP_PORTS[more.security],
  fingerprint: fingerprint?.replaceAll(':', '').toLowerCase() ?? null,
  perSecond: Math.round(mibPerSecond * 1024 * 1024),
});

/** Calls about mail that is carried. */
export const TRANSFER_CALLS: readonly Call[] = [
  pages('/transfers', 'List imports, exports and restores', t.transfer, ORDERS.transfers, ({ context }, asked) =>
    context.transfers.list(asked.sort, asked),
  ),
  call(
    'get',
    '/transfers/:id',
    'A transfer’s progress by mailbox, and what was left out',
    { result: t.transferDetails },
    ({ context, param }) => context.transfers.show(idOf(param)),
  ),
  call(
    'post',
    '/transfers/:id/resume',
    'Continue a transfer that stopped or left something out',
    { result: t.transfer },
    ({ context, param }) => context.transfers.goOn(idOf(param), context.db),
  ),
  call('post', '/transfers/:id/again', 'Run the same transfer again', { result: t.transfer }, ({ context, param }) =>
    context.transfers.again(idOf(param), context.db),
  ),
  call('post', '/transfers/:id/stop', 'Stop a transfer; what was copied stays', { result: t.transfer }, ({ context, param }) =>
    context.transfers.stopOne(idOf(param)),
  ),
  call(
    'post',
    '/transfers/recover',
    'Restore mail from a backup, beside the existing mail',
    { body: t.recovery, result: t.transfer },
    async ({ context, body }) => {
      const { target, name } = await context.backups.meant(body.target, body.backup);
      const { whose, folder, into, isWhole } = body;
      return context.transfers.begin({ kind: 'recover', target, backup: name, whose, folder, into, isWhole }, context.db);
    },
  ),
  call(
    'post',
    '/transfers/import-files',
    'Import mail from files on the server',
    { body: t.filesImport, result: t.transfer },
    ({ context, body }) => context.transfers.begin({ kind: 'files', ...body }, context.db),
  ),
  call(
    'post',
    '/transfers/import-imap',
    'Import mail from another server',
    { body: t.imapImport, result: t.transfer },
    ({ context, body: { untilQuietHours, isTrial, ...server } }) =>
      context.transfers.begin({ kind: 'imap', ...serverOf(server), untilQuietHours, isTrial }, context.db),
  ),
  call(
    'post',
    '/transfers/export',
    'Export a mailbox, a domain or a customer to files on the server',
    { body: t.mailExport, result: t.transfer },
    ({ context, body }) => context.transfers.begin({ kind: 'export', ...body }, context.db),
  ),
  call(
    'get',
    '/backups/content',
    'What a backup contains of a mailbox, folder by folder',
    { query: t.backupContentQuery, result: t.backupContent },
    ({ context, query }) => backupContent(context, query.address.toLowerCase(), query.backup === '' ? null : query.backup),
  ),
];
