import { z } from 'zod';
import { breathe } from '../core/pieces.ts';
import { introduction } from '../service/rehearsal/rehearsal-wire.ts';
import * as access from './access-schemas.ts';
import { CALLS } from './calls.ts';
import * as journeys from './journey-schemas.ts';
import * as s from './schemas.ts';

type Io = 'input' | 'output';
type Json = Record<string, unknown>;

/** Shapes that several calls use, each once under a name of its own. */
class Components {
  readonly schemas: Record<string, Json> = {};

  /** The JSON Schema of a shape. What is required differs between what is sent and what is answered, so each has its own. */
  schema(type: z.ZodType, io: Io): Json {
    const {
      $schema: _dialect,
      $defs,
      ...shape
    } = z.toJSONSchema(type, { target: 'draft-2020-12', io, unrepresentable: 'any', reused: 'inline' });
    const name = (id: string): string => (io === 'input' ? `${id}Input` : id);
    const led = (value: unknown): Json =>
      JSON.parse(JSON.stringify(value), (key, inner) =>
        key === '$ref' && typeof inner === 'string'
          ? inner.replace(/^#\/\$defs\/(.*)$/, (_all, id) => `#/components/schemas/${name(id)}`)
          : inner,
      );
    for (const [id, inner] of Object.entries($defs ?? {})) {
      const { id: _id, ...rest } = led(inner);
      const known = this.schemas[name(id)];
      if (known && JSON.stringify(known) !== JSON.stringify(rest)) throw new Error(`two shapes are called ${name(id)}`);
      this.schemas[name(id)] = rest;
    }
    return led(shape);
  }

  json(type: z.ZodType, io: Io): Json {
    return { content: { 'application/json': { schema: this.schema(type, io) } } };
  }
}

/** `getDomainsByNameRecords` for `GET /domains/:name/records`. */
const operationId = (method: string, path: string): string =>
  method +
  path
    .split('/')
    .filter((part) => part !== '')
    .map((part) => (part.startsWith(':') ? `By-${part.slice(1)}` : part))
    .flatMap((part) => part.split('-'))
    .map((word) => word.charAt(0).toUpperCase() + word.slice(1))
    .join('');

const headerParameter = (name: string, description: string): Json => ({
  name,
  in: 'header',
  required: false,
  schema: { type: 'string' },
  description,
});
/** RFC 9110 §13.1.1 */
const IF_MATCH = headerParameter('If-Match', 'The expected revision, in quotes; otherwise nothing is done (412)');
const KEY = headerParameter(
  'Idempotency-Key',
  'Your own unique text per request: repeated with the same key within 24 hours, the request takes effect once and gets the first answer',
);

/** The OpenAPI 3.1 document, made from the schemas that validate; a call at a time, since all of them take a third of a second. */
export async function openApi(version: string): Promise<object> {
  const components = new Components();
  const problem = {
    description: 'A problem document (RFC 9457)',
    content: { 'application/problem+json': { schema: components.schema(s.problem, 'output') } },
  };
  const queryParameters = (query: z.ZodType): Json[] => {
    const { properties = {}, required = [] } = components.schema(query, 'input') as {
      properties?: Record<string, object>;
      required?: string[];
    };
    return Object.entries(properties).map(([name, shape]) => ({ name, in: 'query', required: required.includes(name), schema: shape }));
  };
  const paths: Record<string, Record<string, unknown>> = {};
  const add = (method: string, path: string, operation: Record<string, unknown>): void => {
    const name = path.replace(/:(\w+)/g, '{$1}');
    paths[name] = { ...paths[name], [method]: { operationId: operationId(method, path), ...operation } };
  };
  for (const one of CALLS) {
    await breathe();
    add(one.method, one.path, {
      summary: one.summary,
      parameters: [
        ...[...one.path.matchAll(/:(\w+)/g)].map(([, name]) => ({ name, in: 'path', required: true, schema: { type: 'string' } })),
        ...(one.query ? queryParameters(one.query) : []),
        ...(one.current ? [IF_MATCH] : []),
        ...(one.method === 'get' ? [] : [KEY]),
      ],
      ...(one.body ? { requestBody: { required: !one.body.safeParse({}).success, ...components.json(one.body, 'input') } } : {}),
      responses: { 200: { description: 'Done', ...components.json(one.result, 'output') }, default: problem },
    });
  }
  add('get', '/events', {
    summary: 'Live events: check-step, check-run, finding-changed',
    responses: {
      200: { description: 'Server-sent events, each with JSON data', content: { 'text/event-stream': { schema: { type: 'string' } } } },
      default: problem,
    },
  });
  add('get', '/journal/live', {
    summary: 'The live journal; an event’s id is the number of its entry',
    parameters: [
      ...queryParameters(journeys.liveQuery),
      { name: 'Last-Event-ID', in: 'header', required: false, schema: { type: 'string' }, description: 'Continue after this entry' },
    ],
    responses: {
      200: { description: 'Server-sent events, each with JSON data', content: { 'text/event-stream': { schema: { type: 'string' } } } },
      default: problem,
    },
  });
  add('post', '/session', {
    summary: 'Sign in to the console',
    security: [],
    requestBody: { required: true, ...components.json(access.signIn, 'input') },
    responses: { 200: { description: 'Signed in; a cookie is set', ...components.json(access.session, 'output') }, default: problem },
  });
  add('get', '/session', {
    summary: 'Who is signed in',
    responses: { 200: { description: 'The session', ...components.json(access.session, 'output') }, default: problem },
  });
  add('delete', '/session', {
    summary: 'Sign out',
    responses: { 200: { description: 'Done', ...components.json(s.nothing, 'output') }, default: problem },
  });
  add('post', '/witness/introductions', {
    summary: 'Another host registers with its one-time code; the answer authenticates this host',
    security: [],
    requestBody: { required: true, ...components.json(introduction, 'input') },
    responses: { 200: { description: 'Both are registered', ...components.json(introduction, 'output') }, default: problem },
  });
  add('post', '/witness/rehearsals', {
    summary: 'A witness runs the steps of a test; request and answer are signed (RFC 9421)',
    security: [],
    parameters: [
      headerParameter('Signature-Input', 'RFC 9421'),
      headerParameter('Signature', 'RFC 9421'),
      headerParameter('Content-Digest', 'RFC 9530'),
    ],
    requestBody: { required: true, content: { 'application/json': { schema: { type: 'object' } } } },
    responses: {
      200: {
        description: 'Results of the steps',
        content: { 'application/json': { schema: { type: 'array', items: { type: 'object' } } } },
      },
      default: problem,
    },
  });
  return {
    openapi: '3.1.0',
    info: {
      title: 'Tenedor',
      version,
      description: 'Everything that the command line and the console can do. Sign in with a token: `Authorization: Bearer …`.',
    },
    servers: [{ url: '/api/v1' }],
    components: {
      schemas: components.schemas,
      securitySchemes: { token: { type: 'http', scheme: 'bearer' }, session: { type: 'apiKey', in: 'cookie', name: 'tenedor_session' } },
    },
    security: [{ token: [] }, { session: [] }],
    paths,
  };
}
