import { Validator } from '@seriousme/openapi-schema-validator';
import { expect, it } from 'vitest';
import { DOCUMENT } from '../support/document.ts';

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
