import { parseAddress } from '../core/address/mailbox-address.ts';
import { addEntry } from '../store/journeys.ts';
import { lookUpMailbox } from '../store/mailboxes.ts';
import type { ServiceContext } from './context.ts';
import { Problem } from './problem.ts';
import { type GuardRecord, isAbout } from './sign-in-guard.ts';

/** A lockout that is long enough to be told of. */
const TOLD_FROM_MS = 60_000;

export interface Lockout extends GuardRecord {
  /** Where: with a mailbox (submission, POP3), or at the console. */
  at: 'mailboxes' | 'console';
  /** The domain of a mailbox here; null for an address, and for names that nobody has. */
  domain: string | null;
}

/** Who must wait before they may try to sign in again, the longest wait first. */
export function listLockouts(context: ServiceContext): Lockout[] {
  const { guards, clock } = context;
  return (['mailboxes', 'console'] as const)
    .flatMap((at) =>
      guards[at].held(clock.now()).map((one) => ({
        ...one,
        at,
        domain: at === 'mailboxes' && one.of === 'account' ? domainOfMailbox(context, one.name) : null,
      })),
    )
    .sort((one, other) => other.until - one.until);
}

function domainOfMailbox({ db }: ServiceContext, name: string): string | null {
  const parsed = parseAddress(name);
  if (parsed.kind !== 'ok') return null;
  const { local, domain } = parsed.address;
  return lookUpMailbox(db, local.toLowerCase(), domain) ? domain : null;
}

/** Lets an account or an address try again at once. */
export async function liftLockout(context: ServiceContext, name: string): Promise<void> {
  const { db, guards, clock } = context;
  const found = listLockouts(context).find((one) => isAbout(one, name));
  if (!found) throw new Problem('not-found', `${name.slice(0, 320)} is not locked out.`, 'See who is: tenedor lockout list', 'name');
  for (const guard of [guards.mailboxes, guards.console]) guard.lift(name);
  await db.commit(() =>
    addEntry(db, { at: clock.now(), journeyId: null, domain: found.domain, event: 'lockout-lifted', data: { name: found.name } }),
  );
}

/** Journals that a mailbox here is locked out, when it is for long. */
export async function noteLockout(
  { db, guards, clock }: ServiceContext,
  mailbox: { address: string; domain: string },
  client: string,
): Promise<void> {
  const now = clock.now();
  const one = guards.mailboxes.held(now).find((record) => record.of === 'account' && record.name === mailbox.address);
  if (!one || one.until - now < TOLD_FROM_MS) return;
  const data = { mailbox: mailbox.address, failures: one.failures, seconds: Math.round((one.until - now) / 1000), client };
  await db.commit(() => addEntry(db, { at: now, journeyId: null, domain: mailbox.domain, event: 'locked-out', data }));
}
