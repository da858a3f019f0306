import fc from 'fast-check';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { z } from 'zod';
import type { Call } from '../../src/api/call.ts';
import { CALLS } from '../../src/api/calls.ts';
import type { ProblemDocument } from '../../src/api/schemas.ts';
import { NAME_SERVER } from '../../src/standins/dns-server.ts';
import { apiAt, type House, openHouse } from '../support/house.ts';
import { noteStatements, readWhole } from '../support/whole-reads.ts';

let house: House;
let notes: ReturnType<typeof noteStatements>;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'li']);
  for (const [path, body] of [
    ['/aliases', { address: 'all@shop.example', targets: ['ana@shop.example'] }],
    ['/networks', { cidr: '198.51.100.0/24', note: 'choir' }],
    ['/outlets', { name: 'relay', host: 'relay.example' }],
    ['/webhooks', { url: 'https://hooks.example/in', events: ['brake-set'] }],
    ['/tokens', { name: 'spare' }],
    ['/stops', { scope: 'li@shop.example', text: 'Away' }],
  ] as const)
    expect((await house.api.call('POST', path, body)).status, path).toBe(200);
  notes = noteStatements();
});
afterAll(() => house.close());

/** Names of things that are there, names of things that are not, and what somebody who means harm would try. */
const WORDS = [
  ...['shop.example', 'ana@shop.example', 'li@shop.example', 'all@shop.example', 'Customer', 'standard', 'relay', 'direct', 'spare'],
  ...['198.51.100.0/24', '203.0.113.9', '2001:db8::1', NAME_SERVER.address, 'server', 'customer:Customer', 'outlet:relay'],
  ...['new.example', 'new@shop.example', 'far@open.example', 'k1', '*.example', '1h', '2026-11-01', '0', '1', 'https://hooks.example/x'],
  ...[
    '',
    ' ',
    '\0',
    'a\r\nb: c',
    '\u001b[2J',
    '../../etc/passwd',
    "' OR 1=1 --",
    '%',
    '__proto__',
    'constructor',
    '<script>alert(1)</script>',
  ],
  ...[
    '🐚',
    'ñandú.example',
    '\u202egnp.exe',
    '-1',
    '1e999',
    'NaN',
    'null',
    'x'.repeat(300),
    `${'a.'.repeat(130)}example`,
    '"',
    '*',
    '[::1]',
  ],
];
const word = fc.constantFrom(...WORDS);
const number = fc.constantFrom(-1, 0, 1, 2, 50, 1.5, 2 ** 31, Number.MAX_SAFE_INTEGER, 1e300);
const anything = fc.oneof(word, number, fc.constantFrom(null, true, [], {}, [[]], { a: { b: {} } }));

interface Shape {
  type?: string;
  enum?: unknown[];
  const?: unknown;
  anyOf?: Shape[];
  properties?: Record<string, Shape>;
  items?: Shape;
}

/** Values of that shape for the most part, so that they get past the door; now and then something else. */
function valuesOf(shape: Shape): fc.Arbitrary<unknown> {
  const fitting = (): fc.Arbitrary<unknown> => {
    if (shape.anyOf) return fc.oneof(...shape.anyOf.map(valuesOf));
    if (shape.enum) return fc.constantFrom(...shape.enum);
    if ('const' in shape) return fc.constant(shape.const);
    if (shape.type === 'object')
      return fc.record(Object.fromEntries(Object.entries(shape.properties ?? {}).map(([name, one]) => [name, valuesOf(one)])), {
        requiredKeys: [],
      });
    if (shape.type === 'array') return fc.array(valuesOf(shape.items ?? {}), { maxLength: 3 });
    if (shape.type === 'integer' || shape.type === 'number') return number;
    if (shape.type === 'boolean') return fc.boolean();
    if (shape.type === 'null') return fc.constant(null);
    return word;
  };
  return fc.oneof({ weight: 15, arbitrary: fitting() }, { weight: 1, arbitrary: anything });
}
const shapeOf = (type: z.ZodType): Shape => z.toJSONSchema(type, { io: 'input', unrepresentable: 'any', reused: 'inline' }) as Shape;

/** A request to that call: its path, and its body if it takes one. */
function requests(one: Call): fc.Arbitrary<{ path: string; body: unknown }> {
  const names = [...one.path.matchAll(/:(\w+)/g)].map(([, name = '']) => name);
  const query = one.query ? Object.entries(shapeOf(one.query).properties ?? {}) : [];
  return fc
    .record({
      parts: fc.tuple(...names.map(() => word)),
      query: fc.record(Object.fromEntries(query.map(([name, shape]) => [name, fc.oneof(valuesOf(shape), word)])), { requiredKeys: [] }),
      body: one.body ? valuesOf(shapeOf(one.body)) : fc.constant(undefined),
    })
    .map(({ parts, query: asked, body }) => {
      const path = names.reduce((whole, name, at) => whole.replace(`:${name}`, encodeURIComponent(parts[at] || ' ')), one.path);
      const pairs = Object.entries(asked).map(([name, value]): [string, string] => [name, String(value)]);
      return { path: pairs.length > 0 ? `${path}?${new URLSearchParams(pairs)}` : path, body };
    });
}

/** A rehearsal waits for hosts that nobody has, so a few of those have to do. */
const runsOf = (one: Call): number => (one.path.startsWith('/rehearsals/') ? 2 : one.body || one.query || one.path.includes(':') ? 24 : 1);

// What takes things away comes last; a check of all domains goes on by itself, and is tested elsewhere.
const isLast = (one: Call): boolean => one.method === 'delete' || one.path.endsWith('/remove');
const calls = CALLS.filter((one) => one.path !== '/checks').sort((one, other) => Number(isLast(one)) - Number(isLast(other)));

it.each(calls.map((one) => [one.method.toUpperCase(), one.path, one] as const))(
  '%s %s: whatever comes gets an answer as the document says',
  async (method, _path, one) => {
    await fc.assert(
      fc.asyncProperty(requests(one), async ({ path, body }) => {
        const answer = await house.api.call<unknown>(method, path, body);
        if (answer.status === 200) {
          const read = one.result.safeParse(answer.body);
          expect(read.error?.issues ?? [], JSON.stringify(answer.body)?.slice(0, 500)).toEqual([]);
          return;
        }
        expect(answer.type).toContain('application/problem+json');
        const { status, detail, remedy } = answer.body as ProblemDocument;
        expect(status).toBe(answer.status);
        // 502: a name server or another host that could not be reached is not our fault.
        expect([400, 401, 404, 409, 413, 422, 429, 502]).toContain(status);
        expect([detail.length > 0, remedy.length > 0, /\p{Cc}/u.test(detail + remedy)], detail).toEqual([true, true, false]);
      }),
      // Nothing to vary, nothing to repeat.
      { numRuns: runsOf(one), seed: 20261123 },
    );
  },
);

it('nothing of it was a fault, nobody got in without a token, and the service goes on', async () => {
  expect(house.log.filter((line) => JSON.parse(line).level >= 50)).toEqual([]);
  const stranger = apiAt(house.api.url, null);
  for (const { method, path } of CALLS)
    expect((await stranger.call(method.toUpperCase(), path.replace(/:\w+/g, 'x'), method === 'get' ? undefined : {})).status, path).toBe(
      401,
    );
  expect((await house.api.call('GET', '/overview')).status).toBe(200);
});

it('no call reads a table as a whole that grows with the mail, and holds up everybody', () => {
  const { db } = house.service.context;
  const statements = notes.end();
  expect(statements.length).toBeGreaterThan(100);
  expect(statements.flatMap((sql) => readWhole(db, sql).map((table) => `${table}: ${sql}`))).toEqual([]);
});
