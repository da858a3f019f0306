import { parseAddress } from '../../core/address/mailbox-address.ts';
import type { SignInService } from '../../core/vocabulary.ts';
import { lookUpMailbox } from '../../store/mailboxes.ts';
import { knownNetworkOf } from '../directory/networks.ts';
import type { AccessDeps } from './deps.ts';
import { noteLockout } from './lockouts.ts';
import { noteWrongSignIn } from './sign-in-troubles.ts';

export interface SignedIn {
  id: number;
  address: string;
  domain: string;
  domainId: number;
}

export type SignInResult = { kind: 'ok'; mailbox: SignedIn } | { kind: 'wrong' } | { kind: 'busy' } | { kind: 'held'; seconds: number };

/** Signs a mailbox in by its full address; an unknown one takes as long as a wrong password. */
export async function signInMailbox(
  context: AccessDeps,
  user: string,
  password: string,
  { service, clientAddress }: { service: SignInService; clientAddress: string },
): Promise<SignInResult> {
  const { db, clock, log, metrics, guards, passwords } = context;
  const guard = guards.mailboxes;
  // An office that is trusted is never locked out for what somebody there has typed.
  const isTrusted = knownNetworkOf(db, clientAddress) !== null;
  const wait = () => (isTrusted ? 0 : guard.wait(clientAddress, user, clock.steady()));
  const held = (): SignInResult => ({ kind: 'held', seconds: Math.max(1, Math.ceil(wait() / 1000)) });
  if (wait() > 0) return held();
  const parsed = parseAddress(user);
  const address = parsed.kind === 'ok' ? { local: parsed.address.local.toLowerCase(), domain: parsed.address.domain } : null;
  const found = address ? lookUpMailbox(db, address.local, address.domain) : undefined;
  const result = await passwords.compare(password, found?.passwordHash ?? null, clock.steady(), {
    mayTry: () => wait() === 0,
    failed: () => {
      if (!isTrusted) guard.failed(clientAddress, user, clock.steady(), found && address ? address.domain : null);
    },
  });
  if (result === 'held') return held();
  if (result === 'busy') return { kind: 'busy' };
  if (result === 'wrong' || !found || !address) {
    metrics.signIns.inc({ result: 'wrong' });
    log.warn({ client: clientAddress, user: user.slice(0, 320) }, 'sign-in refused');
    noteWrongSignIn(context, service, clientAddress, user);
    if (found && address && !isTrusted)
      await noteLockout(context, { address: `${address.local}@${address.domain}`, domain: address.domain }, clientAddress);
    return { kind: 'wrong' };
  }
  // While the password was compared, the mailbox may have been removed, made anew, or given another password.
  const current = lookUpMailbox(db, address.local, address.domain);
  if (current?.id !== found.id || current.passwordHash !== found.passwordHash) return { kind: 'wrong' };
  guard.succeeded(clientAddress, user, clock.steady());
  context.signInTroubles.settled(`${address.local}@${address.domain}`, clientAddress);
  metrics.signIns.inc({ result: 'good' });
  return {
    kind: 'ok',
    mailbox: { id: found.id, address: `${address.local}@${address.domain}`, domain: address.domain, domainId: found.domainId },
  };
}
