import { readFileSync } from 'node:fs';
import { Validator } from '@seriousme/openapi-schema-validator';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { PROBLEMS } from '../../src/service/base/problem.ts';
import { PROBLEM_TEXTS } from '../../src/texts/en/problems.ts';
import { DOCUMENT } from '../support/document.ts';
import { type House, openHouse } from '../support/house.ts';

interface Described {
  parameters?: { in: string; required: boolean }[];
  requestBody?: { required: boolean };
}
let house: House;
beforeAll(async () => {
  house = await openHouse();
});
afterAll(() => house.close());

it('the document is OpenAPI 3.1, each call has a name of its own, and each reference leads somewhere', async () => {
  const validator = new Validator();
  expect(await validator.validate(JSON.parse(JSON.stringify(DOCUMENT)))).toEqual({ valid: true });
  expect(validator.version).toBe('3.1');
  const ids = Object.values(DOCUMENT.paths).flatMap((path) =>
    Object.values(path).map((one) => (one as { operationId?: string }).operationId),
  );
  expect(ids.every((id) => /^[a-z]+[A-Za-z]+$/.test(id ?? ''))).toBe(true);
  expect(new Set(ids).size).toBe(ids.length);
  const text = JSON.stringify(DOCUMENT);
  for (const [, name] of text.matchAll(/"\$ref":"#\/components\/schemas\/([^"]+)"/g))
    expect(Object.keys((DOCUMENT.components as { schemas: object }).schemas)).toContain(name);
  expect(text).not.toContain('$defs');
  expect(Object.keys(DOCUMENT.paths)).toEqual(expect.arrayContaining(['/events', '/journal/live', '/session', '/limits/{scope}']));
});

it('a parameter or body is required in the document exactly where its call refuses to do without', async () => {
  const kinds = new Set<string>();
  for (const [path, methods] of Object.entries(DOCUMENT.paths))
    for (const [method, one] of Object.entries(methods as Record<string, Described>)) {
      const needed = (one.parameters ?? []).filter((parameter) => parameter.in === 'query' && parameter.required);
      if (path.includes('live') || path === '/events' || path.startsWith('/session') || path.startsWith('/witness/')) continue;
      const isQuery = method === 'get';
      const isNeeded = isQuery ? needed.length > 0 : one.requestBody?.required === true;
      // What is not there is told before, or after, what was not sent.
      const { body } = await house.api.call(
        method.toUpperCase(),
        path.replace('{id}', '1').replace(/\{\w+\}/g, 'nothing.example'),
        isQuery ? undefined : {},
      );
      const isRefused = (body as { code?: string }).code === 'bad-input' && (body as { field?: string | null }).field !== null;
      if (isNeeded) expect(body, `${method} ${path}`).toMatchObject({ code: 'bad-input' });
      if (isRefused) kinds.add(isNeeded ? 'needed' : `refused ${method} ${path}`);
    }
  expect([...kinds]).toEqual(['needed']);
});

it('docs/problems.md has every problem, and the link in each document leads to what it means', async () => {
  const table = readFileSync(new URL('../../docs/problems.md', import.meta.url), 'utf8')
    .split('\n')
    .filter((line) => line.startsWith('| `'));
  expect(table).toEqual(
    Object.entries(PROBLEMS).map(([code, status]) => {
      const { title, means } = PROBLEM_TEXTS[code as keyof typeof PROBLEMS];
      return `| \`${code}\` | ${status} | ${title} | ${means} |`;
    }),
  );
  const { body } = await house.api.call('GET', '/customers/Nobody');
  expect(body).toMatchObject({ type: '/problems/not-found', title: 'Not found', status: 404 });
  const page = await fetch(`${house.api.url}${body.type}`);
  expect([page.status, await page.text()]).toEqual([200, `Not found (not-found, 404)\n\n${PROBLEM_TEXTS['not-found'].means}\n`]);
  expect((await fetch(`${house.api.url}/problems/constructor`)).headers.get('content-type')).not.toContain('text/plain');
});
