import { addEntry } from '../../store/journeys.ts';
import { Problem } from '../base/problem.ts';
import type { AccessDeps } from './deps.ts';
import { type GuardRecord, isAbout } from './sign-in-guard.ts';

/** A lockout that is long enough to be told of. */
const TOLD_FROM_MS = 60_000;

export interface Lockout extends GuardRecord {
  /** Where: with a mailbox (submission, POP3), or at the console. */
  at: 'mailboxes' | 'console';
}

/** Who must wait before they may try to sign in again: mailboxes of ours first, then the longest wait. */
export function listLockouts({ guards, clock }: AccessDeps): Lockout[] {
  // Guards wait by the steady clock; people read the wall’s.
  const ahead = clock.now() - clock.steady();
  const isOurs = (one: Lockout): number => (one.domain === null ? 0 : 1);
  return (['mailboxes', 'console'] as const)
    .flatMap((at) => guards[at].held(clock.steady()).map((one) => ({ ...one, at, until: one.until + ahead, last: one.last + ahead })))
    .sort((one, other) => isOurs(other) - isOurs(one) || other.until - one.until);
}

/** Lets an account or an address try again at once. */
export async function liftLockout(context: AccessDeps, name: string): Promise<void> {
  const { db, guards, clock } = context;
  const found = [guards.mailboxes, guards.console].flatMap((guard) => guard.held(clock.steady())).find((one) => isAbout(one, name));
  if (!found)
    throw new Problem('not-found', `${name.slice(0, 320)} is not locked out.`, 'See who is locked out: tenedor lockout list', 'name');
  for (const guard of [guards.mailboxes, guards.console]) guard.lift(name);
  await db.commit(() =>
    addEntry(db, { at: clock.now(), journeyId: null, domain: found.domain, event: 'lockout-lifted', data: { name: found.name } }),
  );
}

/** Journals that a mailbox here is locked out, when it is for long. */
export async function noteLockout(
  { db, guards, clock }: AccessDeps,
  mailbox: { address: string; domain: string },
  client: string,
): Promise<void> {
  const now = clock.steady();
  const one = guards.mailboxes.held(now).find((record) => record.of === 'account' && record.name === mailbox.address);
  if (!one || one.until - now < TOLD_FROM_MS) return;
  const data = { mailbox: mailbox.address, failures: one.failures, seconds: Math.round((one.until - now) / 1000), client };
  await db.commit(() => addEntry(db, { at: clock.now(), journeyId: null, domain: mailbox.domain, event: 'locked-out', data }));
}
