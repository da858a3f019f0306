import type { z } from 'zod';
import { Problem } from '../service/base/problem.ts';

const DOCUMENT = '/api/v1/openapi.json';

export function parsed<T extends z.ZodType>(schema: T, value: unknown): z.output<T> {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  const issue = result.error.issues[0];
  const unknown = issue?.code === 'unrecognized_keys' ? issue.keys[0] : undefined;
  const path = [...(issue?.path ?? []), ...(unknown === undefined ? [] : [unknown])].map(String);
  const field = path.join('.');
  if (unknown !== undefined)
    throw new Problem('bad-input', `There is no field “${unknown.slice(0, 80)}”.`, `Leave it out; see ${DOCUMENT} for the fields.`, field);
  if (issue === undefined || field === '')
    throw new Problem('bad-input', 'The request body is not a JSON object.', 'Send an object with the call’s fields.');
  throw new Problem('bad-input', `The field “${field.slice(0, 80)}” ${faultOf(valueAt(value, path), path)}.`, remedyOf(issue), field);
}

/** What of a request must not come back in a refusal, which logs and screens keep. */
const SECRET = /pass|secret|code|key|pem|current|next/i;

function faultOf(value: unknown, path: readonly string[]): string {
  if (value === undefined) return 'is missing';
  if (path.some((name) => SECRET.test(name))) return 'is not valid';
  if (value === '') return 'can’t be empty';
  if (typeof value === 'string') return value.length > 80 ? `can’t be “${value.slice(0, 80)}…”` : `can’t be “${value}”`;
  if (Array.isArray(value)) return value.length === 0 ? 'can’t be empty' : `can’t be a list of ${value.length}`;
  return typeof value === 'object' && value !== null ? 'can’t be an object' : `can’t be ${String(value)}`;
}

const valueAt = (value: unknown, path: readonly string[]): unknown =>
  path.reduce<unknown>(
    (inner, name) => (typeof inner === 'object' && inner !== null ? (inner as Record<string, unknown>)[name] : undefined),
    value,
  );

function remedyOf(issue: z.core.$ZodIssue): string {
  const words = expectedWords(issue);
  return words === null ? `See ${DOCUMENT}` : `Give ${words}.`;
}

/** What a schema wants, in plain words; null where it takes several forms. */
function expectedWords(issue: z.core.$ZodIssue): string | null {
  switch (issue.code) {
    case 'invalid_value':
      return issue.values.length === 1 ? String(issue.values[0]) : `one of ${issue.values.map(String).join(', ')}`;
    case 'too_small':
      if (!issue.message.startsWith('Too small')) return issue.message;
      return `${issue.inclusive === false ? 'more than' : 'at least'} ${issue.minimum}${unitOf(issue.origin, Number(issue.minimum))}`;
    case 'too_big':
      if (!issue.message.startsWith('Too big')) return issue.message;
      return `${issue.inclusive === false ? 'less than' : 'at most'} ${issue.maximum}${unitOf(issue.origin, Number(issue.maximum))}`;
    case 'invalid_type':
      return issue.message.startsWith('Invalid') ? (TYPES[issue.expected] ?? `a ${issue.expected}`) : issue.message;
    case 'invalid_union':
      return null;
    case 'custom':
      return issue.message;
    default:
      return issue.message.replace(/^Invalid (?:input: expected |string: )?/, '');
  }
}

const TYPES: Readonly<Record<string, string>> = {
  int: 'a whole number',
  string: 'a text',
  boolean: 'true or false',
  array: 'a list',
  object: 'an object',
};

function unitOf(origin: string, number: number): string {
  if (origin === 'string') return number === 1 ? ' character' : ' characters';
  return origin === 'array' || origin === 'set' ? (number === 1 ? ' entry' : ' entries') : '';
}
