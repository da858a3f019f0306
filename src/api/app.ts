import { existsSync, readFileSync } from 'node:fs';
import type { Socket } from 'node:net';
import { join } from 'node:path';
import { bodyParser } from '@koa/bodyparser';
import Router from '@koa/router';
import Koa, { type Context } from 'koa';
import serveStatic from 'koa-static';
import type { Registry } from 'prom-client';
import { domainSide } from '../core/address/sides.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { AnsweredRequests, type Repeats } from '../service/base/answered-requests.ts';
import { faultText, PROBLEMS, Problem } from '../service/base/problem.ts';
import { newestPlace } from '../service/journal/journeys.ts';
import { domainDiscovery } from '../service/overview/settings-sheet.ts';
import { isNoSpace } from '../store/no-space.ts';
import { PROBLEM_TEXTS } from '../texts/en/problems.ts';
import type { Call, CallInput } from './call.ts';
import { CALLS } from './calls.ts';
import { Changes } from './changes.ts';
import { sessionCalls, witnessCalls } from './door-calls.ts';
import { acting, identify } from './identity.ts';
import * as journeys from './journey-schemas.ts';
import { namedField } from './named-field.ts';
import { openApi } from './openapi.ts';
import { parsed } from './parsed.ts';
import { withRevisions } from './revisions.ts';
import type * as s from './schemas.ts';
import { Streams } from './streams.ts';

export interface AppSettings {
  /** Folder of the built console. */
  consoleFolder: string;
  /** Whether the port speaks TLS, so that cookies can be told to stay on it. */
  tls: boolean;
  startedAt: number;
  metrics: Registry;
  /** The names under which the console is open, beside addresses. */
  names: readonly string[];
  /** Hears of each connection over which somebody is signed in. */
  signedIn: (socket: Socket) => void;
}

/** What is the same for everybody is made once, and its octets are shared by all answers. */
const METRICS_KEPT_MS = 1000;

const LARGEST_BODY = '1mb';
/** A client that goes away while it is answered is no fault. */
const CLIENT_GONE = ['EPIPE', 'ECONNRESET', 'ERR_STREAM_PREMATURE_CLOSE', 'ERR_STREAM_DESTROYED', 'ECONNABORTED'];

/** The HTTP face: API, console files, health and metrics. */
export function buildApp(context: ServiceContext, settings: AppSettings): Koa {
  const app = new Koa();
  app.on('error', (error: NodeJS.ErrnoException) => {
    if (!CLIENT_GONE.includes(error.code ?? '')) context.log.error({ fault: faultText(error) }, 'HTTP fault');
  });
  app.use(async (ctx, next) => {
    ctx.set('X-Content-Type-Options', 'nosniff');
    ctx.set('Referrer-Policy', 'no-referrer');
    ctx.set(
      'Content-Security-Policy',
      "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
    );
    try {
      await next();
    } catch (error) {
      answerProblem(ctx, context, error);
    }
  });
  app.use(apiRouter(context, settings).routes());
  app.use(async (ctx, next) => {
    if (ctx.path.startsWith('/api/'))
      throw new Problem(
        'no-such-call',
        `There is no call ${ctx.method} ${ctx.path.slice(0, 200)}.`,
        'See /api/v1/openapi.json for all calls.',
      );
    await next();
  });
  const files = serveStatic(settings.consoleFolder, { index: false, maxage: 3600_000 });
  app.use((ctx, next) => (CONSOLE_FILE.test(ctx.path) ? files(ctx, next) : next()));
  // Every other path is a page of the console, which reads it itself.
  const file = join(settings.consoleFolder, 'index.html');
  const page = existsSync(file) ? readFileSync(file) : null;
  app.use((ctx) => {
    if (!['GET', 'HEAD'].includes(ctx.method) || page === null) return;
    ctx.type = 'html';
    ctx.set('Cache-Control', 'no-cache');
    ctx.body = page;
  });
  return app;
}

/** What the console's build makes. Any other path, however odd, is the console's to answer. */
const CONSOLE_FILE = /^\/(?:assets\/)?\w[\w-]*(?:\.[\w-]+)+$/;

/** The domain that a program means: that of the address which it names, else that of the name by which it came. */
function askedDomain(host: string, address: string | string[] | undefined): string {
  const named = typeof address === 'string' ? domainSide(address) : '';
  return (named === '' ? host.replace(/^autoconfig\./i, '') : named).toLowerCase();
}

function apiRouter(context: ServiceContext, settings: AppSettings): Router {
  const router = new Router();
  let document: Promise<Buffer> | null = null;
  let measured: { at: number; text: Promise<Buffer> } | null = null;
  const identified = (ctx: Context): ReturnType<typeof identify> => {
    const identity = identify(ctx, context, settings.names);
    settings.signedIn(ctx.req.socket);
    return identity;
  };
  const streams = new Streams(context);
  const changes = new Changes();
  const answered = new AnsweredRequests(context);
  router.get('/healthz', (ctx) => {
    context.db.one('SELECT 1');
    const { state } = context.space;
    // Still up: mail is read and sent; but what asks here should know.
    const isWell = context.space.isEnough;
    ctx.status = isWell ? 200 : 503;
    ctx.body = { status: isWell ? 'up' : 'no-space', space: state, version: context.version };
  });
  router.get('/metrics', async (ctx) => {
    const now = context.clock.steady();
    if (!measured || now - measured.at >= METRICS_KEPT_MS || now < measured.at)
      measured = { at: now, text: settings.metrics.metrics().then((text) => Buffer.from(text)) };
    ctx.type = settings.metrics.contentType;
    ctx.body = await measured.text;
  });
  // Where the `type` of a problem document leads (RFC 9457 §3.1.1).
  router.get('/problems/:code', async (ctx, next) => {
    const code = (ctx.params as { code: string }).code;
    if (!Object.hasOwn(PROBLEMS, code)) return next();
    const known = code as keyof typeof PROBLEMS;
    const { title, means } = PROBLEM_TEXTS[known];
    const status = PROBLEMS[known];
    ctx.type = 'text/plain; charset=utf-8';
    ctx.body = `${title} (${code}, ${status})\n\n${means}\n`;
  });
  // What mail programs ask a domain for, by themselves and without a sign-in (draft-ietf-mailmaint-autoconfig §4).
  for (const path of ['/.well-known/autoconfig/mail/config-v1.1.xml', '/mail/config-v1.1.xml'])
    router.get(path, (ctx) => {
      const document = domainDiscovery(context, askedDomain(ctx.hostname, ctx.query['emailaddress']));
      ctx.type = document === null ? 'text/plain; charset=utf-8' : 'application/xml; charset=utf-8';
      ctx.status = document === null ? 404 : 200;
      ctx.body = document ?? 'This server has no mailboxes of that domain.\n';
    });
  router.get('/api/v1/openapi.json', async (ctx) => {
    // A start does not wait for it: few ever ask.
    document ??= openApi(context.version).then((whole) => Buffer.from(JSON.stringify(whole)));
    ctx.type = 'json';
    ctx.body = await document;
  });
  const parseBody = bodyParser({
    enableTypes: ['json'],
    jsonLimit: LARGEST_BODY,
    onError: (error) => {
      if ((error as { status?: number }).status === 413)
        throw new Problem('too-large', 'The request body is larger than 1 MB.', 'Send a smaller request.');
      throw new Problem('bad-input', 'The request body is not JSON.', 'Send a JSON object with Content-Type: application/json.');
    },
  });
  // Read as nothing, a form would do what was never asked for.
  router.use('/api', async (ctx, next) => {
    if (ctx.request.length !== 0 && ctx.is('application/json') === false)
      throw new Problem(
        'wrong-media-type',
        'The request body is not JSON by its media type.',
        'Send it with Content-Type: application/json.',
      );
    await next();
  });
  router.get('/api/v1/events', (ctx) => {
    const identity = identified(ctx);
    const stream = streams.news(identity);
    ctx.type = 'text/event-stream';
    ctx.set('Cache-Control', 'no-store');
    ctx.body = stream;
  });
  router.get('/api/v1/journal/live', (ctx) => {
    const identity = identified(ctx);
    const query = parsed(journeys.liveQuery, { ...ctx.query });
    const given = Number(ctx.get('last-event-id') || query.after || Number.NaN);
    const filter = { domain: query.domain ?? null, journey: query.journey ?? null, search: query.search };
    const stream = streams.journal(identity, Number.isSafeInteger(given) ? given : newestPlace(context), filter);
    ctx.type = 'text/event-stream';
    ctx.set('Cache-Control', 'no-store');
    ctx.body = stream;
  });
  sessionCalls(router, context, settings, parseBody);
  witnessCalls(router, context, parseBody);
  for (const one of CALLS) {
    router[one.method](`/api/v1${one.path}`, parseBody, async (ctx) => {
      const identity = identified(ctx);
      const input: CallInput<unknown, unknown> = {
        // What the call journals says who asked for it.
        context: acting(context, identity, ctx.ip),
        identity,
        address: ctx.ip,
        startedAt: settings.startedAt,
        param: (name) => (ctx.params as Record<string, string>)[name] ?? '',
        body: one.body ? parsed(one.body, ctx.request.body ?? {}) : undefined,
        query: one.query ? parsed(one.query, { ...ctx.query }) : undefined,
      };
      ctx.set('Cache-Control', 'no-store');
      const what = `the call ${one.method.toUpperCase()} ${one.path}`;
      const act = async (): Promise<unknown> => {
        const made = one.method === 'get' ? one.handle : (asked: CallInput<never, never>) => changes.make(one, asked, ctx.get('if-match'));
        const answer = withRevisions(
          one.result,
          await context.loop.during(what, () => withField(input, Object.values(ctx.params), () => made(input as CallInput<never, never>))),
        );
        // Nothing is told that the document does not promise.
        const kept = one.result.safeParse(answer);
        if (!kept.success) context.log.error({ fault: kept.error.message }, `an answer is not as documented: ${what}`);
        return kept.success ? kept.data : answer;
      };
      const key = one.method === 'get' ? '' : ctx.get('idempotency-key');
      const request = JSON.stringify([one.method, ctx.url, ctx.get('if-match'), ctx.request.body ?? null]);
      const answer = key === '' ? await act() : await answered.once(identity.accountId, key, request, act, repeatsOf(one, input as never));
      const { revision } = answer as { revision?: unknown };
      if (typeof revision === 'string') ctx.set('ETag', `"${revision}"`);
      ctx.body = answer;
    });
  }
  return router;
}

/** A problem with something that the request names says in which field. */
async function withField<T>({ body, query }: CallInput<unknown, unknown>, path: readonly string[], act: () => T | Promise<T>): Promise<T> {
  try {
    return await act();
  } catch (error) {
    if (error instanceof Problem && error.field === null && error.subject !== null)
      error.field = namedField(error.subject, path, [body, query]);
    throw error;
  }
}

function repeatsOf({ again }: Call, input: CallInput<never, never>): Repeats {
  const { isRefusal, answer } = again ?? {};
  return {
    ...(isRefusal ? { isRefusal: (first) => isRefusal(input, first as never) } : {}),
    ...(answer ? { answer: (first) => answer(input, first as never) } : {}),
  };
}

function answerProblem(ctx: Context, context: ServiceContext, error: unknown): void {
  const status = (error as { status?: unknown }).status;
  const problem =
    error instanceof Problem
      ? error
      : isNoSpace(error)
        ? new Problem(
            'no-space',
            'The disk of the server is full; nothing was changed.',
            'Free some space; the service then continues automatically.',
          )
        : typeof status === 'number' && status < 500
          ? new Problem('bad-input', 'The request can’t be read.', 'Check its path and headers.')
          : new Problem(
              'fault',
              'Internal error. See the service’s log for details.',
              'Try again. If it persists, report it with the service’s log.',
            );
  if (problem.code === 'no-space') context.space.wasFull();
  if (problem.code === 'fault') context.log.error({ path: ctx.path.slice(0, 200), fault: faultText(error) }, 'call failed');
  ctx.status = problem.status;
  ctx.set('Cache-Control', 'no-store');
  // RFC 9110 §11.6.1, §10.2.3
  if (problem.status === 401) ctx.set('WWW-Authenticate', 'Bearer realm="Tenedor"');
  if (problem.retryAfter !== null) ctx.set('Retry-After', String(Math.ceil(problem.retryAfter)));
  ctx.body = {
    type: `/problems/${problem.code}`,
    title: PROBLEM_TEXTS[problem.code].title,
    status: problem.status,
    detail: problem.detail,
    code: problem.code,
    remedy: problem.remedy,
    field: problem.field,
  } satisfies s.ProblemDocument;
  ctx.type = 'application/problem+json';
}
