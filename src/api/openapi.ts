import { z } from 'zod';
import { CALLS } from './calls.ts';
import * as s from './schemas.ts';

const schema = (type: z.ZodType, io: 'input' | 'output') => {
  const { $schema: _dialect, ...rest } = z.toJSONSchema(type, { target: 'draft-2020-12', io, unrepresentable: 'any', reused: 'inline' });
  return rest;
};
const json = (type: z.ZodType, io: 'input' | 'output') => ({ content: { 'application/json': { schema: schema(type, io) } } });

/** The OpenAPI 3.1 document, made from the schemas that validate. */
export function openApi(version: string): object {
  const problem = {
    description: 'A problem document (RFC 9457)',
    content: { 'application/problem+json': { schema: schema(s.problem, 'output') } },
  };
  const paths: Record<string, Record<string, unknown>> = {};
  const add = (method: string, path: string, operation: Record<string, unknown>): void => {
    const name = path.replace(/:(\w+)/g, '{$1}');
    paths[name] = { ...paths[name], [method]: operation };
  };
  for (const one of CALLS) {
    const query = one.query ? (schema(one.query, 'input') as { properties?: Record<string, object> }).properties : undefined;
    add(one.method, one.path, {
      summary: one.summary,
      parameters: [
        ...[...one.path.matchAll(/:(\w+)/g)].map(([, name]) => ({ name, in: 'path', required: true, schema: { type: 'string' } })),
        ...Object.entries(query ?? {}).map(([name, shape]) => ({ name, in: 'query', required: false, schema: shape })),
      ],
      ...(one.body ? { requestBody: { required: true, ...json(one.body, 'input') } } : {}),
      responses: { 200: { description: 'Done', ...json(one.result, 'output') }, default: problem },
    });
  }
  add('get', '/events', {
    summary: 'News as they happen: check-step, check-run, finding-changed',
    responses: {
      200: { description: 'Server-sent events, each with JSON data', content: { 'text/event-stream': { schema: { type: 'string' } } } },
      default: problem,
    },
  });
  add('post', '/session', {
    summary: 'Sign in to the console',
    security: [],
    requestBody: { required: true, ...json(s.signIn, 'input') },
    responses: { 200: { description: 'Signed in; a cookie is set', ...json(s.session, 'output') }, default: problem },
  });
  add('get', '/session', {
    summary: 'Who is signed in',
    responses: { 200: { description: 'The session', ...json(s.session, 'output') }, default: problem },
  });
  add('delete', '/session', {
    summary: 'Sign out',
    responses: { 200: { description: 'Done', ...json(s.nothing, 'output') }, default: problem },
  });
  return {
    openapi: '3.1.0',
    info: {
      title: 'Tenedor',
      version,
      description: 'All that the command line and the console do. Sign in with a token: `Authorization: Bearer …`.',
    },
    servers: [{ url: '/api/v1' }],
    components: {
      securitySchemes: { token: { type: 'http', scheme: 'bearer' }, session: { type: 'apiKey', in: 'cookie', name: 'tenedor_session' } },
    },
    security: [{ token: [] }, { session: [] }],
    paths,
  };
}
