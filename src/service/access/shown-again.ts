import { findAppPassword } from '../../store/app-passwords.ts';
import { lookUpMailbox, type Mailbox } from '../../store/mailboxes.ts';
import { Problem, replacedSince } from '../base/problem.ts';
import { fastHash, isFastHash, passwordMatches, secretHash } from '../base/secrets.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import { identifyToken } from './accounts.ts';
import type { AccessDeps } from './deps.ts';

/** Answers with secrets are given again to whoever repeats a request with its key: here it is decided which of the secrets still count. */

interface Shown {
  address: string;
  password: string;
}

function mailboxAt(context: AccessDeps, address: string): Mailbox | null {
  try {
    return requireMailbox(context, address);
  } catch (error) {
    if (error instanceof Problem) return null;
    throw error;
  }
}

function keptHash(context: AccessDeps, address: string): string | null {
  const mailbox = mailboxAt(context, address);
  if (!mailbox) return null;
  return lookUpMailbox(context.db, mailbox.address.slice(0, mailbox.address.lastIndexOf('@')), mailbox.domain)?.passwordHash ?? null;
}

/** Throws unless this password is still the mailbox's own. */
export async function requireStillOwn(context: AccessDeps, { address, password }: Shown): Promise<void> {
  const kept = keptHash(context, address);
  if (kept === null || !(await passwordMatches(password, kept))) throw replacedSince(`the password of ${address}`);
}

/** Passwords with a slow hash that are compared for one answer: a tenth of a second each. */
const MOST_SLOW = 50;

/** Of passwords that were made, those that are still their mailboxes' own; beyond some tens that would have to be compared slowly, none. */
export async function stillOwn(context: AccessDeps, shown: readonly Shown[]): Promise<Shown[]> {
  const own: Shown[] = [];
  let slow = 0;
  for (const one of shown) {
    const kept = keptHash(context, one.address);
    if (kept === null) continue;
    if (isFastHash(kept)) {
      if (kept === fastHash(one.password)) own.push(one);
    } else if (slow < MOST_SLOW) {
      slow += 1;
      if (await passwordMatches(one.password, kept)) own.push(one);
    }
  }
  return own;
}

/** Throws unless this is still a password of one of the mailbox's devices. */
export function requireStillDevice(context: AccessDeps, { address, password }: Shown): void {
  const mailbox = mailboxAt(context, address);
  if (!mailbox || !findAppPassword(context.db, mailbox.id, secretHash(password))) throw replacedSince(`that app password of ${address}`);
}

/** Throws unless this token still signs in. */
export function requireStillToken(context: AccessDeps, token: string): void {
  if (!identifyToken(context, token)) throw replacedSince('that token');
}
