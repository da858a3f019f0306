import { timingSafeEqual } from 'node:crypto';
import type { Context } from 'koa';
import * as accounts from '../service/access/accounts.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { Problem } from '../service/base/problem.ts';

export const COOKIE = 'tenedor_session';
const CSRF_HEADER = 'x-tenedor-csrf';

/** The service as somebody uses it. */
export const acting = (context: ServiceContext, { account, token }: accounts.Identity, address: string): ServiceContext => ({
  ...context,
  db: context.db.as({ account, token: token?.name ?? null, face: token === null ? 'console' : 'api', address }),
});

export const notSignedIn = (): Problem =>
  new Problem(
    'not-signed-in',
    'You are not signed in, or the token or session is no longer valid.',
    'Sign in: on the console’s first page, or with: tenedor sign-in',
  );

/** Who asks: a token, or a session whose changes carry the CSRF token, so that no other site can send them. */
export function identify(ctx: Context, context: ServiceContext): accounts.Identity {
  const authorization = ctx.get('authorization');
  if (authorization !== '') {
    const token = /^Bearer (\S+)$/i.exec(authorization)?.[1];
    const identity = token === undefined ? null : accounts.identifyToken(context, token);
    if (!identity) throw notSignedIn();
    return identity;
  }
  const session = accounts.identifySession(context, ctx.cookies.get(COOKIE) ?? '');
  if (!session) throw notSignedIn();
  if (ctx.method !== 'GET' && ctx.method !== 'HEAD') {
    const given = Buffer.from(ctx.get(CSRF_HEADER));
    const expected = Buffer.from(session.csrfToken);
    if (given.length !== expected.length || !timingSafeEqual(given, expected))
      throw new Problem(
        'csrf-token-missing',
        'The change did not come from the console’s own pages.',
        `Send the session’s CSRF token as ${CSRF_HEADER}, or use a token.`,
      );
  }
  return session;
}
