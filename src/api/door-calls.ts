import type Router from '@koa/router';
import type Koa from 'koa';
import * as accounts from '../service/access/accounts.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { ORDER_PATH } from '../service/rehearsal/witness-desk.ts';
import { beIntroduced } from '../service/rehearsal/witnesses.ts';
import * as access from './access-schemas.ts';
import { acting, COOKIE, identify, notSignedIn, requireOwnOrigin } from './identity.ts';
import { parsed } from './parsed.ts';

/** Signing in to the console, and out of it. */
export function sessionCalls(
  router: Router,
  context: ServiceContext,
  settings: { tls: boolean; names: readonly string[] },
  parseBody: Koa.Middleware,
): void {
  router.post('/api/v1/session', parseBody, async (ctx) => {
    requireOwnOrigin(ctx, context, settings.names);
    const body = parsed(access.signIn, ctx.request.body ?? {});
    const result = await accounts.signIn(context, { ...body, clientAddress: ctx.ip, program: ctx.get('user-agent') });
    ctx.cookies.set(COOKIE, result.secret, {
      httpOnly: true,
      sameSite: 'strict',
      secure: settings.tls,
      path: '/',
      expires: new Date(result.expiresAt),
      overwrite: true,
    });
    ctx.set('Cache-Control', 'no-store');
    ctx.body = { account: result.account, csrfToken: result.csrfToken };
  });
  router.get('/api/v1/session', (ctx) => {
    requireOwnOrigin(ctx, context, settings.names);
    const session = accounts.identifySession(context, ctx.cookies.get(COOKIE) ?? '');
    if (!session) throw notSignedIn();
    ctx.set('Cache-Control', 'no-store');
    ctx.body = { account: session.account, csrfToken: session.csrfToken };
  });
  router.delete('/api/v1/session', async (ctx) => {
    const identity = identify(ctx, context, settings.names);
    await accounts.signOut(acting(context, identity, ctx.ip), ctx.cookies.get(COOKIE) ?? '', identity.account);
    ctx.cookies.set(COOKIE, null);
    ctx.body = {};
  });
}

/** What another host asks: it signs in with nothing, and proves itself by a code or by a signature. */
export function witnessCalls(router: Router, context: ServiceContext, parseBody: Koa.Middleware): void {
  router.post('/api/v1/witness/introductions', parseBody, async (ctx) => {
    ctx.set('Cache-Control', 'no-store');
    ctx.body = await beIntroduced(context, ctx.request.body);
  });
  router.post(ORDER_PATH, parseBody, async (ctx) => {
    const given = Object.fromEntries(Object.entries(ctx.headers).map(([name, value]) => [name, String(value)]));
    const { headers, body } = await context.witnesses.answer(given, ctx.path, ctx.request.rawBody ?? '', ctx.ip);
    ctx.set({ ...headers, 'Cache-Control': 'no-store' });
    ctx.body = body;
  });
}
