import { clockReport, realignClock } from '../service/overview/clock-report.ts';
import { overview } from '../service/overview/overview.ts';
import * as access from './access-schemas.ts';
import { ACCOUNT_CALLS } from './account-calls.ts';
import { BACKUP_CALLS } from './backup-calls.ts';
import { type Call, type Current, call } from './call.ts';
import { CERTIFICATE_CALLS } from './certificate-calls.ts';
import { CONFIGURATION_CALLS } from './configuration-calls.ts';
import { DIRECTORY_CALLS } from './directory-calls.ts';
import { DNS_CALLS } from './dns-calls.ts';
import { MAIL_CALLS } from './mail-calls.ts';
import { MAILBOX_CALLS } from './mailbox-calls.ts';
import { MOVE_CALLS } from './move-calls.ts';
import { MOVED_CALLS } from './moved-calls.ts';
import { REHEARSAL_CALLS } from './rehearsal-calls.ts';
import { isRevised } from './revisions.ts';
import * as s from './schemas.ts';
import { TRAFFIC_CALLS } from './traffic-calls.ts';
import { TRANSFER_CALLS } from './transfer-calls.ts';

const ALL: readonly Call[] = [
  call('get', '/overview', 'What needs attention, and sending totals', { result: s.overview }, ({ context, startedAt }) =>
    overview(context, startedAt),
  ),
  call('get', '/clock', 'The machine’s clock and the service’s time', { result: access.clockReport }, ({ context }) =>
    clockReport(context),
  ),
  call('post', '/clock/realign', 'Correct dates recorded while the clock was wrong', { result: access.clockRealigned }, ({ context }) =>
    realignClock(context),
  ),
  ...MAIL_CALLS,
  ...DIRECTORY_CALLS,
  ...DNS_CALLS,
  ...CERTIFICATE_CALLS,
  ...REHEARSAL_CALLS,
  ...BACKUP_CALLS,
  ...TRANSFER_CALLS,
  ...MOVE_CALLS,
  ...MOVED_CALLS,
  ...CONFIGURATION_CALLS,
  ...MAILBOX_CALLS,
  ...TRAFFIC_CALLS,
  ...ACCOUNT_CALLS,
];

const readOf = (path: string): Current | null => {
  const read = ALL.find((one) => one.method === 'get' && one.path === path && isRevised(one.result));
  return read ? { kind: path, result: read.result, read: read.handle } : null;
};

/** Every call of /api/v1 that needs a signed-in account. What a path reads is what a change at that path changes. */
export const CALLS: readonly Call[] = ALL.map((one) => ({
  ...one,
  current: one.method === 'get' ? null : (one.current ?? readOf(one.path)),
}));
