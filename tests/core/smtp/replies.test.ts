import { readFileSync } from 'node:fs';
import { expect, it } from 'vitest';
import { REPLIES, type Reply } from '../../../src/core/smtp/replies.ts';

/** What stands in the table for the parts of a reply that differ. */
const SAMPLES: Record<string, string> = {};

function sample(name: string): Reply {
  const made = REPLIES[name as keyof typeof REPLIES] as Reply | ((...parts: string[]) => Reply);
  return typeof made === 'function' ? made('…', '…', '…') : made;
}

it('docs/replies.md lists every reply, with its code, its enhanced code and its text', () => {
  const lines = readFileSync(new URL('../../../docs/replies.md', import.meta.url), 'utf8').split('\n');
  const listed = lines.flatMap((line) => {
    const found = /^\| (\d{3}) \| (\S+) \| (.*?) \| /.exec(line);
    return found ? [`${found[1]} ${found[2]} ${found[3]}`] : [];
  });
  const expected = Object.keys(REPLIES).map((name) => {
    const { code, status, text } = sample(name);
    return `${code} ${status ?? '–'} ${text === '…' ? (SAMPLES[name] ?? '…') : text}`;
  });
  expect([...listed].sort()).toEqual([...new Set(expected)].sort());
});

it('each refusal has an enhanced code of its class, and plain ASCII text', () => {
  for (const name of Object.keys(REPLIES)) {
    const { code, status, text } = sample(name);
    expect(text.replaceAll('…', ''), name).toMatch(/^[\x20-\x7e]*$/);
    if (code >= 400) expect(status?.[0], name).toBe(String(code)[0]);
  }
});
