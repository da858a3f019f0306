import { timingSafeEqual } from 'node:crypto';
import type { Context } from 'koa';
import { isIpAddress } from '../core/address/ip-address.ts';
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

/**
 * Refuses what a page of another origin has a browser send, also by a name of its own that leads here: a session counts under the names of this
 * host only, and over TLS under those that a certificate is held for. Addresses are nobody's name.
 */
export function requireOwnOrigin(ctx: Context, { certificates }: ServiceContext, names: readonly string[]): void {
  const own = ctx.hostname.toLowerCase().replace(/\.$/, '');
  const origin = ctx.get('origin');
  const isOwnName =
    isIpAddress(own.replace(/^\[|\]$/g, '')) ||
    own === 'localhost' ||
    names.includes(own) ||
    (ctx.secure && certificates.for(own) !== undefined);
  if (isOwnName && (origin === '' || sameHost(origin, ctx.host))) return;
  throw new Problem(
    'csrf-token-missing',
    isOwnName ? 'The request comes from a page of another site.' : `The console is not at ${own.slice(0, 100)}.`,
    `Open it by the name of the host${isOwnName ? '' : ', or add it: names of the [[listener]] with service = "web"'}.`,
  );
}

function sameHost(origin: string, host: string): boolean {
  try {
    return new URL(origin).host === host.toLowerCase();
  } catch {
    return false;
  }
}

export const notSignedIn = (): Problem =>
  new Problem(
    'not-signed-in',
    'You are not signed in, or the token or session is no longer valid.',
    'Sign in to the console, or with: tenedor sign-in',
  );

/** Who asks: a token, or a session whose changes carry the CSRF token, so that no other site can send them. */
export function identify(ctx: Context, context: ServiceContext, names: readonly string[]): accounts.Identity {
  const authorization = ctx.get('authorization');
  if (authorization !== '') {
    const token = /^Bearer (\S+)$/i.exec(authorization)?.[1];
    const identity = token === undefined ? null : accounts.identifyToken(context, token);
    if (!identity) throw notSignedIn();
    return identity;
  }
  requireOwnOrigin(ctx, context, names);
  const session = accounts.identifySession(context, ctx.cookies.get(COOKIE) ?? '');
  if (!session) throw notSignedIn();
  if (ctx.method !== 'GET' && ctx.method !== 'HEAD') {
    const given = Buffer.from(ctx.get(CSRF_HEADER));
    const expected = Buffer.from(session.csrfToken);
    if (given.length !== expected.length || !timingSafeEqual(given, expected))
      throw new Problem('csrf-token-missing', 'The session’s CSRF token is missing.', `Send it as ${CSRF_HEADER}, or use an API token.`);
  }
  return session;
}
