import * as accounts from '../store/accounts.ts';
import type { ServiceContext } from './context.ts';
import type { Attempt } from './password-checks.ts';
import { badInput, Problem } from './problem.ts';
import { hashPassword, newSessionSecret, newToken, oneTimeCode, secretHash } from './secrets.ts';

export interface Identity {
  accountId: number;
  account: string;
}

const SESSION_MS = 12 * 3600_000;
const SHORTEST_PASSWORD = 12;

/** Makes the operator's account at the first start. Returns the one-time code to show, as long as nobody has used one. */
export async function prepareOperator({ db, clock }: ServiceContext): Promise<{ name: string; code: string } | null> {
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
}

/** Opens a console session. Returns its secret and the guard value that each change must carry. */
export async function signIn(
  context: ServiceContext,
  { name, password, code, clientAddress }: SignIn,
): Promise<{ secret: string; guard: string; account: string; expiresAt: number }> {
  const { db, clock, log } = context;
  const guard = context.guards.console;
  const attempt: Attempt = {
    mayTry: () => guard.wait(clientAddress, name, clock.now()) === 0,
    failed: () => guard.failed(clientAddress, name, clock.now()),
  };
  const account = accounts.findAccount(db, name);
  if (!attempt.mayTry()) throw held(guard.wait(clientAddress, name, clock.now()));
  const result =
    code === null
      ? await context.passwords.compare(password, account?.passwordHash ?? null, clock.now(), attempt)
      : await redeemCode(context, account, code, password, attempt);
  if (result === 'held') throw held(guard.wait(clientAddress, name, clock.now()));
  if (result === 'busy') throw busy();
  if (result === 'wrong' || !account) {
    log.warn({ account: name.slice(0, 64), client: clientAddress }, 'console sign-in refused');
    throw new Problem(
      'sign-in-wrong',
      code === null ? 'The name or password is wrong.' : 'The name or one-time code is wrong, or the code was used already.',
      code === null ? 'Check both and try again.' : 'Restart the service for a new code, or sign in with the password.',
    );
  }
  guard.succeeded(clientAddress, name);
  const secret = newSessionSecret();
  const session = {
    hash: secretHash(secret),
    accountId: account.id,
    guard: newSessionSecret(),
    now: clock.now(),
    expiresAt: clock.now() + SESSION_MS,
  };
  await db.commit(() => {
    accounts.removeOldSessions(db, session.now);
    accounts.addWebSession(db, session);
  });
  return { secret, guard: session.guard, account: account.name, expiresAt: session.expiresAt };
}

const held = (wait: number): Problem =>
  new Problem('sign-in-held', 'There were too many wrong sign-ins.', `Try again in ${Math.max(1, Math.ceil(wait / 1000))} seconds.`);
const busy = (): Problem => new Problem('busy', 'Many sign in at this moment.', 'Try again soon.');

async function redeemCode(
  { db }: ServiceContext,
  account: accounts.Account | undefined,
  code: string,
  password: string,
  attempt: Attempt,
): Promise<'right' | 'wrong'> {
  const hash = secretHash(code.trim().toLowerCase());
  if (account?.codeHash && account.codeHash === hash) {
    requireGoodPassword(password);
    const passwordHash = await hashPassword(password);
    if (await db.commit(() => accounts.takeCode(db, account.id, hash, passwordHash))) return 'right';
  }
  attempt.failed();
  return 'wrong';
}

export function requireGoodPassword(password: string): void {
  if ([...password].length < SHORTEST_PASSWORD)
    throw badInput(
      'password',
      `The password has fewer than ${SHORTEST_PASSWORD} characters.`,
      'Choose a longer one; four unrelated words do well.',
    );
  if (password.length > 1024) throw badInput('password', 'The password has more than 1024 characters.', 'Choose a shorter one.');
  if (/\p{Cc}/u.test(password)) throw badInput('password', 'The password holds a control character.', 'Choose one that can be typed.');
}

export async function changePassword(
  { db, clock, passwords }: ServiceContext,
  { accountId, account }: Identity,
  current: string,
  next: string,
): Promise<void> {
  const kept = accounts.findAccount(db, account);
  // Whoever is signed in already need not be kept from guessing.
  const result = await passwords.compare(current, kept?.passwordHash ?? null, clock.now(), { mayTry: () => true, failed: () => {} });
  if (result === 'busy') throw busy();
  if (result !== 'right') throw badInput('current', 'The current password is wrong.', 'Type the password that you signed in with.');
  requireGoodPassword(next);
  const hash = await hashPassword(next);
  await db.commit(() => accounts.setAccountPassword(db, accountId, hash));
}

export const signOut = ({ db }: ServiceContext, secret: string) => db.commit(() => accounts.removeWebSession(db, secretHash(secret)));

export function identifySession({ db, clock }: ServiceContext, secret: string): (Identity & { guard: string }) | null {
  return accounts.findWebSession(db, secretHash(secret), clock.now()) ?? null;
}

const USED_EVERY_MS = 60_000;

/** Nobody waits for it, and a full disk must not keep anybody out. */
const markUsed = ({ db, log }: ServiceContext, id: number, now: number): void => {
  db.commit(() => accounts.tokenUsed(db, id, now)).catch((error: unknown) =>
    log.warn({ fault: String(error) }, 'the use of a token could not be noted'),
  );
};

export function identifyToken(context: ServiceContext, token: string): Identity | null {
  const { db, clock } = context;
  const found = accounts.findToken(db, secretHash(token));
  if (!found) return null;
  const now = clock.now();
  if (now - (found.usedAt ?? 0) > USED_EVERY_MS) markUsed(context, found.id, now);
  return { accountId: found.accountId, account: found.account };
}

export const listTokens = ({ db }: ServiceContext, { accountId }: Identity) => accounts.listTokens(db, accountId);

/** Makes a token; its text is shown this once. */
export async function addToken(
  { db, clock }: ServiceContext,
  { accountId }: Identity,
  name: string,
): Promise<{ name: string; token: string }> {
  const token = newToken();
  await db.commit(() => {
    if (accounts.listTokens(db, accountId).some((one) => one.name === name))
      throw new Problem(
        'exists-already',
        `There is a token “${name}” already.`,
        'Choose another name, or remove that token first.',
        'name',
      );
    accounts.addToken(db, accountId, name, secretHash(token), clock.now());
  });
  return { name, token };
}

export async function removeToken({ db }: ServiceContext, { accountId }: Identity, name: string): Promise<void> {
  if (!(await db.commit(() => accounts.removeToken(db, accountId, name))))
    throw new Problem('not-found', `There is no token “${name}”.`, 'List the tokens to see their names.');
}
