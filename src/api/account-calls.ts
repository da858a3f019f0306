import { ORDERS } from '../core/vocabulary.ts';
import * as accounts from '../service/access/accounts.ts';
import { listSignIns } from '../service/access/kept-sign-ins.ts';
import { liftLockout, listLockouts } from '../service/access/lockouts.ts';
import { requireStillToken } from '../service/access/shown-again.ts';
import { listSignInTroubles } from '../service/access/sign-in-troubles.ts';
import * as access from './access-schemas.ts';
import { type Call, call, done, pages, shortList } from './call.ts';
import * as s from './schemas.ts';

/** Calls about who may sign in. */
export const ACCOUNT_CALLS: readonly Call[] = [
  shortList(
    '/lockouts',
    'List lockouts after wrong sign-ins',
    access.lockout,
    ORDERS.lockouts,
    (one) => one.name,
    {
      // Mailboxes of ours first.
      ours: (one) => Number(one.domain === null),
      until: (one) => -one.until,
      name: (one) => one.name,
      failures: (one) => -one.failures,
    },
    ({ context }) => listLockouts(context),
  ),
  pages(
    '/sign-ins',
    'Sign-ins to mailboxes in the last 90 days, by week, client and password; search for a mailbox, a domain or a client’s address',
    access.signIns,
    ORDERS.signIns,
    ({ context }, asked) => listSignIns(context, asked),
  ),
  shortList(
    '/sign-in-troubles',
    'Recent failed sign-ins to mailboxes, and why',
    access.signInTrouble,
    ORDERS.signInTroubles,
    (one) => `${one.client} ${one.typed ?? ''} ${one.mailbox ?? ''} ${one.domain ?? ''} ${one.text}`,
    {
      last: (one) => -one.last,
      mailbox: (one) => one.mailbox ?? one.domain,
      client: (one) => one.client,
      times: (one) => -one.times,
    },
    ({ context }) => listSignInTroubles(context),
  ),
  call(
    'post',
    '/lockouts/lift',
    'Lift the lockout of an account or an address',
    { body: access.lockoutName, result: s.nothing },
    ({ context, body }) => done(liftLockout(context, body.name)),
  ),
  shortList(
    '/tokens',
    'List your API tokens',
    access.token,
    ORDERS.tokens,
    (one) => one.name,
    { name: (one) => one.name, used: (one) => (one.usedAt === null ? null : -one.usedAt), since: (one) => -one.createdAt },
    ({ context, identity }) => accounts.listTokens(context, identity),
  ),
  call(
    'post',
    '/tokens',
    'Create an API token',
    {
      body: access.newTokenBody,
      result: access.newTokenResult,
      again: {
        answer: ({ context }, answer) => {
          requireStillToken(context, answer.token);
          return answer;
        },
      },
    },
    ({ context, identity, body }) => accounts.addToken(context, identity, body.name),
  ),
  call('delete', '/tokens/:name', 'Revoke an API token', { result: s.nothing }, ({ context, identity, param }) =>
    done(accounts.removeToken(context, identity, param('name'))),
  ),
  pages('/sessions', 'Your console sessions', access.webSession, ORDERS.sessions, ({ context, identity }, asked) =>
    accounts.listSessions(context, identity, asked),
  ),
  call(
    'post',
    '/sessions/end',
    'Sign out of one session, or of all others',
    { body: access.sessionEnd, result: access.sessionsEnded },
    ({ context, identity, body }) => accounts.endSessions(context, identity, body.id),
  ),
  call(
    'put',
    '/password',
    'Change your password',
    { body: access.passwordChange, result: s.nothing },
    ({ context, identity, address, body }) => done(accounts.changePassword(context, identity, address, body.current, body.next)),
  ),
];
