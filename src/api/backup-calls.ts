import { ORDERS } from '../core/vocabulary.ts';
import * as b from './backup-schemas.ts';
import { type Call, call, pages, shortList } from './call.ts';

/** Calls about backups. */
export const BACKUP_CALLS: readonly Call[] = [
  call(
    'get',
    '/backups/state',
    'When the last backup was made, what is under way, and when the next is due',
    { result: b.backupState },
    ({ context }) => context.backups.state(),
  ),
  shortList(
    '/backups',
    'List the backups at the place of the configuration',
    b.backup,
    ORDERS.backups,
    (one) => one.name,
    { at: (one) => -one.at, size: (one) => -one.size },
    ({ context }) => context.backups.list(null),
  ),
  pages(
    '/backups/runs',
    'List the backups that were made and proven, or could not be',
    b.upkeepRun,
    ORDERS.upkeepRuns,
    ({ context }, asked) => context.backups.runs(asked.sort, asked),
  ),
  call('post', '/backups', 'Begin a backup', { body: b.newBackup, result: b.backupUnderWay }, ({ context, body }) =>
    context.backups.make({ target: body.target, isByHand: true }),
  ),
  call(
    'post',
    '/integrity',
    'Begin a look at all that is stored; what can be mended is, if that is wanted',
    { body: b.integrityLook, result: b.backupUnderWay },
    ({ context, body }) => context.backups.integrity({ ...body, isByHand: true }),
  ),
  call('post', '/backups/verify', 'Begin to prove a backup', { body: b.backupProof, result: b.backupUnderWay }, ({ context, body }) =>
    context.backups.verify({ ...body, isByHand: true }),
  ),
];
