import { ORDERS } from '../core/vocabulary.ts';
import * as b from './backup-schemas.ts';
import { type Call, call, pages, shortList } from './call.ts';

/** Calls about backups. */
export const BACKUP_CALLS: readonly Call[] = [
  call('get', '/backups/state', 'The last backup, the running one, and when the next is due', { result: b.backupState }, ({ context }) =>
    context.backups.state(),
  ),
  shortList(
    '/backups',
    'List the backups in the configured directory',
    b.backup,
    ORDERS.backups,
    (one) => one.name,
    { at: (one) => -one.at, size: (one) => -one.size },
    ({ context }) => context.backups.list(null),
  ),
  pages('/backups/runs', 'List past backups and verifications, with failures', b.upkeepRun, ORDERS.upkeepRuns, ({ context }, asked) =>
    context.backups.runs(asked.sort, asked),
  ),
  call('post', '/backups', 'Start a backup', { body: b.newBackup, result: b.backupUnderWay }, ({ context, body }) =>
    context.backups.make({ target: body.target, isByHand: true }),
  ),
  call(
    'post',
    '/integrity',
    'Verify stored data, and repair it on request',
    { body: b.integrityLook, result: b.backupUnderWay },
    ({ context, body }) => context.backups.integrity({ ...body, isByHand: true }),
  ),
  call('post', '/backups/verify', 'Verify a backup', { body: b.backupProof, result: b.backupUnderWay }, ({ context, body }) =>
    context.backups.verify({ ...body, isByHand: true }),
  ),
];
