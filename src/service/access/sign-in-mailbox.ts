import { plainAddress } from '../../core/address/ip-address.ts';
import { parseAddress } from '../../core/address/mailbox-address.ts';
import type { SignInService } from '../../core/vocabulary.ts';
import { findAppPassword, noteAppPasswordUsed } from '../../store/app-passwords.ts';
import { lookUpMailbox, setPassword } from '../../store/mailboxes.ts';
import { isGivenHash } from '../base/given-hashes.ts';
import { hashPassword, looksLikeAppPassword, passwordMatches, secretHash } from '../base/secrets.ts';
import { knownNetworkOf } from '../directory/networks.ts';
import type { AccessDeps } from './deps.ts';
import { noteLockout } from './lockouts.ts';
import { noteMainPassword, noteWrongSignIn } from './sign-in-troubles.ts';

/** When a device is used again, it is noted again after so long. */
const USED_AGAIN_MS = 10 * 60_000;

export interface SignedIn {
  id: number;
  address: string;
  domain: string;
  domainId: number;
  /** By which app password, by number; null for the mailbox's own. */
  appPassword: number | null;
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
  const ours = rehearsed(context, user, password);
  if (ours) return ours;
  const guard = guards.mailboxes;
  // An office that is trusted is never locked out for what somebody there has typed.
  const isTrusted = knownNetworkOf(db, clientAddress) !== null;
  const wait = () => (isTrusted ? 0 : guard.wait(clientAddress, user, clock.steady()));
  const held = (): SignInResult => ({ kind: 'held', seconds: Math.max(1, Math.ceil(wait() / 1000)) });
  if (wait() > 0) return held();
  const parsed = parseAddress(user);
  const address = parsed.kind === 'ok' ? { local: parsed.address.local.toLowerCase(), domain: parsed.address.domain } : null;
  const found = address ? lookUpMailbox(db, address.local, address.domain) : undefined;
  const device = found && address ? await signInDevice(context, found.id, password, clientAddress, wait) : null;
  if (device !== null && found && address) {
    guard.succeeded(clientAddress, user, clock.steady());
    return entered(context, { id: found.id, domainId: found.domainId, ...address }, service, clientAddress, device);
  }
  const attempt = {
    mayTry: () => wait() === 0,
    failed: () => {
      if (!isTrusted) guard.failed(clientAddress, user, clock.steady(), found && address ? address.domain : null);
    },
  };
  const result = await passwords.compare(password, found?.passwordHash ?? null, clock.steady(), attempt);
  if (result === 'held') return held();
  if (result === 'busy') return { kind: 'busy' };
  if (result === 'wrong' || !found || !address) {
    metrics.signIns.inc({ result: 'wrong' });
    log.warn({ client: clientAddress, user: user.slice(0, 320) }, 'sign-in refused');
    noteWrongSignIn(context, service, clientAddress, user);
    if (found) noteSignIn(context, found.id, service, clientAddress, { isGood: false, device: null });
    if (found && address && !isTrusted)
      await noteLockout(context, { address: `${address.local}@${address.domain}`, domain: address.domain }, clientAddress);
    return { kind: 'wrong' };
  }
  // While the password was compared, the mailbox may have been removed, made anew, or given another password.
  const current = isGivenHash(found.passwordHash)
    ? await keepAsOurs(context, address, password, found.passwordHash)
    : lookUpMailbox(db, address.local, address.domain);
  if (current?.id !== found.id || (current.passwordHash !== found.passwordHash && !isGivenHash(found.passwordHash)))
    return { kind: 'wrong' };
  guard.succeeded(clientAddress, user, clock.steady());
  if (current.appPasswordsOnly) {
    metrics.signIns.inc({ result: 'wrong' });
    noteSignIn(context, found.id, service, clientAddress, { isGood: false, device: null });
    noteMainPassword(context, service, clientAddress, `${address.local}@${address.domain}`);
    return { kind: 'wrong' };
  }
  return entered(context, { id: found.id, domainId: found.domainId, ...address }, service, clientAddress, null);
}

/** This service itself, with a pass that it has given itself: it is neither counted, nor held up, nor noted as a device. */
function rehearsed({ db, clock, passes }: AccessDeps, user: string, password: string): SignInResult | null {
  if (!password.startsWith('pass-')) return null;
  const parsed = parseAddress(user);
  if (parsed.kind !== 'ok') return null;
  const address = { local: parsed.address.local.toLowerCase(), domain: parsed.address.domain };
  const found = lookUpMailbox(db, address.local, address.domain);
  if (!found || !passes.opens(password, found.id, clock.steady())) return null;
  return {
    kind: 'ok',
    mailbox: {
      id: found.id,
      address: `${address.local}@${address.domain}`,
      domain: address.domain,
      domainId: found.domainId,
      appPassword: null,
    },
  };
}

/**
 * A password that was right by a hash from another server is kept by one of our own from now on. Returns the mailbox as it is then; nothing when its password
 * has become another meanwhile.
 */
async function keepAsOurs(
  { db }: AccessDeps,
  { local, domain }: { local: string; domain: string },
  password: string,
  given: string,
): Promise<ReturnType<typeof lookUpMailbox>> {
  const hash = await hashPassword(password);
  const isKept = await db.commit(() => {
    const now = lookUpMailbox(db, local, domain);
    if (now?.passwordHash !== given) return false;
    setPassword(db, now.id, hash);
    return true;
  });
  const now = lookUpMailbox(db, local, domain);
  // Somebody else may have signed in at the same moment, and had it kept.
  return isKept || (now && (await passwordMatches(password, now.passwordHash))) ? now : undefined;
}

type Device = { id: number; name: string };

const noteSignIn = (
  { clock, signInHistory }: AccessDeps,
  mailboxId: number,
  service: SignInService,
  clientAddress: string,
  one: { isGood: boolean; device: string | null },
): void => signInHistory.note({ mailboxId, service, client: plainAddress(clientAddress), ...one }, clock.now());

/** Signs in by the password of a device; null when it is none. */
async function signInDevice(
  { db, clock }: AccessDeps,
  mailboxId: number,
  password: string,
  clientAddress: string,
  wait: () => number,
): Promise<Device | null> {
  if (!looksLikeAppPassword(password) || wait() > 0) return null;
  const device = findAppPassword(db, mailboxId, secretHash(password));
  if (!device) return null;
  const now = clock.now();
  // Programs sign in again and again: the hour is enough to know.
  if (device.usedAt === null || device.usedFrom !== clientAddress || now - device.usedAt > USED_AGAIN_MS)
    await db.commit(() => noteAppPasswordUsed(db, device.id, clientAddress, now), { withinMs: 50, isRepeatable: true });
  return device;
}

function entered(
  context: AccessDeps,
  { id, domainId, local, domain }: { id: number; domainId: number; local: string; domain: string },
  service: SignInService,
  clientAddress: string,
  device: Device | null,
): SignInResult {
  const address = `${local}@${domain}`;
  context.signInTroubles.settled(address, clientAddress);
  noteSignIn(context, id, service, clientAddress, { isGood: true, device: device?.name ?? null });
  context.metrics.signIns.inc({ result: 'good' });
  return { kind: 'ok', mailbox: { id, address, domain, domainId, appPassword: device?.id ?? null } };
}
