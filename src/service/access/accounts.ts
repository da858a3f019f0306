import * as accounts from '../../store/accounts.ts';
import { addEntry } from '../../store/journeys.ts';
import type { Listed } from '../base/listed.ts';
import { badInput, Problem } from '../base/problem.ts';
import { hashPassword, newSessionSecret, newToken, oneTimeCode, requireGoodPassword, secretHash } from '../base/secrets.ts';
import { knownNetworkOf } from '../directory/networks.ts';
import type { AccessDeps } from './deps.ts';
import type { PasswordAttempt } from './password-checks.ts';
import type { Holder } from './sessions.ts';

export interface Identity {
  accountId: number;
  account: string;
  /** By which token or console session; null for what the machine itself does. */
  token: { id: number; name: string } | null;
  session: number | null;
}

/** Whose rows a stream or session ends with. */
export const holderOf = ({ accountId, token, session }: Identity): Holder => ({
  account: accountId,
  api_token: token?.id ?? null,
  web_session: session,
});

const SESSION_MS = 12 * 3600_000;

/** A one-time code that was asked for on the machine itself, in the data directory, counts from now on; the password stays until it is used. */
async function takeRecovery(context: AccessDeps): Promise<void> {
  const { db, recovery } = context;
  const found = recovery.take();
  if (!found) return;
  await db.commit(() => {
    const account = accounts.findAccount(db, found.account);
    if (account) accounts.setCode(db, account.id, found.codeHash);
  });
}

/** Makes the operator's account at the first start. Returns the one-time code to show, as long as nobody has used one. */
export async function prepareOperator({ db, clock }: AccessDeps): Promise<{ name: string; code: string } | null> {
  const code = oneTimeCode();
  return db.commit(() => {
    if (accounts.countAccounts(db) === 0) accounts.addAccount(db, 'operator', clock.now());
    const account = accounts.accountsWithoutPassword(db)[0];
    if (!account) return null;
    accounts.setCode(db, account.id, secretHash(code));
    return { name: account.name, code };
  });
}

export interface SignIn {
  name: string;
  password: string;
  /** With a one-time code, `password` is the new one. */
  code: string | null;
  clientAddress: string;
  /** What the browser says that it is. */
  program: string;
}

/** Opens a console session. Returns its secret and the CSRF token that each change must carry. */
export async function signIn(
  context: AccessDeps,
  { name, password, code, clientAddress, program }: SignIn,
): Promise<{ secret: string; csrfToken: string; account: string; expiresAt: number }> {
  const { clock, log } = context;
  const attempt = guardedAttempt(context, clientAddress, name);
  if (code !== null) await takeRecovery(context);
  const account = accounts.findAccount(context.db, name);
  if (!attempt.mayTry()) throw attempt.held();
  const result =
    code === null
      ? await context.passwords.compare(password, account?.passwordHash ?? null, clock.steady(), attempt)
      : await redeemCode(context, account, code, password, attempt);
  if (result === 'held') throw attempt.held();
  if (result === 'busy') throw busy();
  if (result === 'wrong' || !account) {
    log.warn({ account: name.slice(0, 64), client: clientAddress }, 'console sign-in refused');
    throw new Problem(
      'sign-in-wrong',
      code === null ? 'The name or password is wrong.' : 'The name or one-time code is wrong, or the code has been used.',
      code === null ? 'Check both and try again.' : 'Create a new code on the server (tenedor recover), or sign in with the password.',
    );
  }
  attempt.succeeded();
  const secret = newSessionSecret();
  const now = clock.now();
  const session = {
    hash: secretHash(secret),
    accountId: account.id,
    csrfToken: newSessionSecret(),
    now,
    expiresAt: now + SESSION_MS,
    address: clientAddress,
    program: program.slice(0, 200),
  };
  const db = context.db.as({ account: account.name, token: null, face: 'console', address: clientAddress });
  await db.commit(() => {
    // A password that was changed while it was compared opens nothing.
    const current = accounts.findAccount(db, account.name);
    if (code === null && current?.passwordHash !== account.passwordHash)
      throw new Problem('sign-in-wrong', 'The password has just been changed.', 'Sign in with the new one.');
    accounts.removeOldSessions(db, session.now);
    accounts.addWebSession(db, session);
    addEntry(db, { at: now, journeyId: null, domain: null, event: 'signed-in', data: { account: account.name, code: code !== null } });
  });
  return { secret, csrfToken: session.csrfToken, account: account.name, expiresAt: session.expiresAt };
}

/** A try at an account's password, held to the guard. A trusted network is never held up. */
function guardedAttempt(
  context: AccessDeps,
  clientAddress: string,
  name: string,
): PasswordAttempt & { held: () => Problem; succeeded: () => void } {
  const { clock, guards, db } = context;
  const guard = guards.console;
  const isTrusted = knownNetworkOf(db, clientAddress) !== null;
  const wait = (): number => (isTrusted ? 0 : guard.wait(clientAddress, name, clock.steady()));
  return {
    mayTry: () => wait() === 0,
    failed: () => {
      if (!isTrusted) guard.failed(clientAddress, name, clock.steady());
    },
    succeeded: () => guard.succeeded(clientAddress, name, clock.steady()),
    held: () => held(wait()),
  };
}

function held(wait: number): Problem {
  const seconds = Math.max(1, Math.ceil(wait / 1000));
  return new Problem('sign-in-held', 'Too many wrong sign-ins.', `Try again in ${seconds} seconds.`, null, seconds);
}
const busy = (): Problem => new Problem('busy', 'Too many sign-ins right now.', 'Try again in a few seconds.', null, 5);

async function redeemCode(
  { db }: AccessDeps,
  account: accounts.Account | undefined,
  code: string,
  password: string,
  attempt: PasswordAttempt,
): Promise<'right' | 'wrong'> {
  const hash = secretHash(code.trim().toLowerCase());
  if (account?.codeHash && account.codeHash === hash) {
    requireGoodPassword(password);
    const passwordHash = await hashPassword(password);
    const isTaken = await db.commit(() => {
      if (!accounts.takeCode(db, account.id, hash, passwordHash)) return false;
      accounts.removeOtherSessions(db, account.id, null);
      return true;
    });
    if (isTaken) return 'right';
  }
  attempt.failed();
  return 'wrong';
}

/** Changes the password of whoever asks, and ends every other session of the account; guesses count as at the door. */
export async function changePassword(
  context: AccessDeps,
  identity: Identity,
  clientAddress: string,
  current: string,
  next: string,
): Promise<void> {
  const { db, clock, passwords } = context;
  const { accountId, account, session } = identity;
  const attempt = guardedAttempt(context, clientAddress, account);
  const kept = accounts.findAccount(db, account);
  const result = await passwords.compare(current, kept?.passwordHash ?? null, clock.steady(), attempt);
  if (result === 'busy') throw busy();
  if (result === 'held') throw attempt.held();
  if (result !== 'right') throw badInput('current', 'The current password is wrong.', 'Enter the password you signed in with.');
  attempt.succeeded();
  requireGoodPassword(next);
  const hash = await hashPassword(next);
  // A code that somebody on the machine asked for and did not use is good for nothing any more.
  context.recovery.take();
  await db.commit(() => {
    accounts.setAccountPassword(db, accountId, hash);
    const ended = accounts.removeOtherSessions(db, accountId, session);
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'password-changed', data: { account, ended } });
  });
}

export async function signOut({ db, clock }: AccessDeps, secret: string, account: string): Promise<void> {
  await db.commit(() => {
    accounts.removeWebSession(db, secretHash(secret));
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'signed-out', data: { account } });
  });
}

export interface SessionView {
  id: number;
  createdAt: number;
  usedAt: number;
  address: string;
  program: string;
  /** Whether it is the one that asks. */
  current: boolean;
}

/** Where an account is signed in to the console. */
export function listSessions(
  { db, clock }: AccessDeps,
  { accountId, session }: Identity,
  asked: Parameters<typeof accounts.listWebSessions>[3],
): Listed<SessionView> {
  const page = accounts.listWebSessions(db, accountId, clock.now(), asked);
  return {
    ...page,
    rows: page.rows.map(({ place, createdAt, usedAt, address, program }) => ({
      id: place,
      createdAt,
      usedAt,
      address,
      program,
      current: place === session,
    })),
  };
}

/** Signs an account out of one session, or of all but the one that asks. */
export async function endSessions(
  { db, clock }: AccessDeps,
  { accountId, account, session }: Identity,
  id: number | null,
): Promise<{ ended: number }> {
  const ended = await db.commit(() => {
    const count = id === null ? accounts.removeOtherSessions(db, accountId, session) : accounts.removeSessionAt(db, accountId, id) ? 1 : 0;
    if (id !== null && count === 0) throw new Problem('not-found', 'There is no such session.', 'List them: tenedor session list', 'id');
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'sessions-ended', data: { account, ended: count } });
    return count;
  });
  return { ended };
}

export function identifySession(context: AccessDeps, secret: string): (Identity & { csrfToken: string }) | null {
  const { db, clock } = context;
  const now = clock.now();
  const found = accounts.findWebSession(db, secretHash(secret), now);
  if (!found) return null;
  const { place, accountId, account, csrfToken, usedAt } = found;
  if (now - usedAt > USED_EVERY_MS || now < usedAt) quietly(context, () => accounts.webSessionUsed(db, place, now));
  return { accountId, account, csrfToken, token: null, session: place };
}

const USED_EVERY_MS = 60_000;

/** Nobody waits for it, and a full disk must not keep anybody out. */
const quietly = ({ db, log }: AccessDeps, work: () => unknown): void => {
  db.commit(work).catch((error: unknown) => log.warn({ fault: String(error) }, 'last use of a token or session could not be saved'));
};

export function identifyToken(context: AccessDeps, token: string): Identity | null {
  const { db, clock } = context;
  const found = accounts.findToken(db, secretHash(token));
  if (!found) return null;
  const now = clock.now();
  if (now - (found.usedAt ?? 0) > USED_EVERY_MS) quietly(context, () => accounts.tokenUsed(db, found.id, now));
  return { accountId: found.accountId, account: found.account, token: { id: found.id, name: found.name }, session: null };
}

export const listTokens = ({ db }: AccessDeps, { accountId }: Identity) => accounts.listTokens(db, accountId);

/** Makes a token; its text is shown only once. */
export async function addToken(
  { db, clock }: AccessDeps,
  { accountId }: Pick<Identity, 'accountId'>,
  name: string,
): Promise<{ name: string; token: string }> {
  const token = newToken();
  await db.commit(() => {
    if (accounts.listTokens(db, accountId).some((one) => one.name === name))
      throw new Problem('exists-already', `A token “${name}” already exists.`, 'Choose another name, or remove that token first.', 'name');
    accounts.addToken(db, accountId, name, secretHash(token), clock.now());
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'token-added', data: { name } });
  });
  return { name, token };
}

export async function removeToken({ db, clock }: AccessDeps, { accountId }: Identity, name: string): Promise<void> {
  await db.commit(() => {
    if (!accounts.removeToken(db, accountId, name))
      throw new Problem('not-found', `There is no token “${name}”.`, 'List tokens: tenedor token list');
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'token-removed', data: { name } });
  });
}
