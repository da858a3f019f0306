import type { z } from 'zod';
import { Problem } from '../service/base/problem.ts';

export function parsed<T extends z.ZodType>(schema: T, value: unknown): z.output<T> {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  const issue = result.error.issues[0];
  const unknown = issue?.code === 'unrecognized_keys' ? issue.keys[0] : undefined;
  const field = [...(issue?.path ?? []), ...(unknown === undefined ? [] : [unknown])].map(String).join('.');
  if (unknown !== undefined)
    throw new Problem(
      'bad-input',
      `There is no field “${unknown.slice(0, 80)}”.`,
      'Leave it out; see /api/v1/openapi.json for the fields.',
      field,
    );
  if (field === '') throw new Problem('bad-input', 'The request body is not a JSON object.', 'Send an object with the call’s fields.');
  throw new Problem(
    'bad-input',
    `The field “${field.slice(0, 80)}” is not right: expected ${issue === undefined ? 'something else' : expectedWords(issue)}.`,
    'Correct it and try again.',
    field,
  );
}

/** What a schema wants, in plain words. */
function expectedWords(issue: z.core.$ZodIssue): string {
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
      return `${/^[aeiou]/.test(issue.expected) ? 'an' : 'a'} ${issue.expected === 'int' ? 'whole number' : issue.expected}`;
    case 'invalid_union':
      return 'another form';
    case 'custom':
      return issue.message;
    default:
      return issue.message.replace(/^Invalid (?:input: expected |string: )?/, '');
  }
}

function unitOf(origin: string, number: number): string {
  if (origin === 'string') return number === 1 ? ' character' : ' characters';
  return origin === 'array' || origin === 'set' ? (number === 1 ? ' entry' : ' entries') : '';
}
