import { parseAddress } from '../core/address/mailbox-address.ts';
import { lookUpMailbox } from '../store/mailboxes.ts';
import type { ServiceContext } from './context.ts';
import { trustedNetworkOf } from './networks.ts';
import { passwordMatches } from './secrets.ts';

export interface SignedIn {
  id: number;
  address: string;
  domain: string;
  domainId: number;
}

export type SignInResult = { kind: 'ok'; mailbox: SignedIn } | { kind: 'wrong' } | { kind: 'held'; seconds: number };

/** Signs a mailbox in by its full address; an unknown one takes as long as a wrong password. */
export async function signInMailbox(
  { db, clock, log, metrics, guards }: ServiceContext,
  user: string,
  password: string,
  clientAddress: string,
): Promise<SignInResult> {
  const guard = guards.mailboxes;
  // An office that is trusted is never locked out for what somebody there has typed.
  const isTrusted = trustedNetworkOf(db, clientAddress) !== null;
  const wait = isTrusted ? 0 : guard.wait(clientAddress, user, clock.now());
  if (wait > 0) return { kind: 'held', seconds: Math.ceil(wait / 1000) };
  const parsed = parseAddress(user);
  const address = parsed.kind === 'ok' ? { local: parsed.address.local.toLowerCase(), domain: parsed.address.domain } : null;
  const found = address ? lookUpMailbox(db, address.local, address.domain) : undefined;
  if (!(await passwordMatches(password, found?.passwordHash ?? null)) || !found || !address) {
    if (!isTrusted) guard.failed(clientAddress, user, clock.now());
    metrics.signIns.inc({ result: 'wrong' });
    log.warn({ client: clientAddress, user: user.slice(0, 320) }, 'sign-in refused');
    return { kind: 'wrong' };
  }
  guard.succeeded(clientAddress, user);
  metrics.signIns.inc({ result: 'good' });
  return {
    kind: 'ok',
    mailbox: { id: found.id, address: `${address.local}@${address.domain}`, domain: address.domain, domainId: found.domainId },
  };
}
