import { expect, it } from 'vitest';
import { checkDomain } from '../../../src/core/checks/check-domain.ts';
import { MOST_QUESTIONS } from '../../../src/core/checks/evidence.ts';
import { proposeSheet } from '../../../src/core/checks/proposed-sheet.ts';
import type { Lookup } from '../../../src/core/records/answers.ts';
import { lookupIn } from '../../support/lookup.ts';

const HOST = { name: 'mail.host.example', addresses: ['192.0.2.25'] };
const many = (count: number, make: (at: number) => string): string => Array.from({ length: count }, (_none, at) => make(at)).join(' ');
const FACTS = { domain: 'shop.example', role: 'home' as const, host: HOST, keys: [], stage: 'none' as const, next: null };

it.each<[string, string, Parameters<typeof lookupIn>[0]]>([
  [
    'an SPF record of 3,200 includes',
    'spf-too-much',
    [['shop.example', 'TXT', `v=spf1 ${many(3200, (at) => `include:i${at}.example`)} -all`]],
  ],
  ['an SPF record of 400 a: terms', 'spf-too-much', [['shop.example', 'TXT', `v=spf1 ${many(400, (at) => `a:h${at}.example`)} -all`]]],
  [
    'a thousand MX records',
    'mx-too-much',
    Array.from({ length: 1000 }, (_none, at) => ['shop.example', 'MX', `${at} mx${at}.far.example`] as [string, 'MX', string]),
  ],
  [
    'two thousand report addresses',
    'dmarc-too-much',
    [
      [
        '_dmarc.shop.example',
        'TXT',
        `v=DMARC1; p=none; rua=${Array.from({ length: 2000 }, (_none, at) => `mailto:r@r${at}.example`).join(',')}`,
      ],
    ],
  ],
])('%s costs a bounded number of questions, and the check says so', async (_what, code, entries) => {
  const lookup = lookupIn(entries);
  const all: Lookup & { asked: string[] } = lookup;
  const findings = await checkDomain(FACTS, { source: all, further: [], caches: [], sibling: 'nobody' });
  expect(findings.map((one) => one.code)).toContain(code);
  // Five subjects, each within its bound.
  expect(lookup.asked.length).toBeLessThan(5 * (MOST_QUESTIONS + 50));
  for (const one of findings) expect(JSON.stringify(one).length).toBeLessThan(100_000);
});

it('what is too long to be looked through is left as it is, never replaced by less', async () => {
  const text = `v=spf1 ${many(3200, (at) => `ip4:192.0.${at % 250}.${Math.floor(at / 250)}`)} -all`;
  const { records, notes } = await proposeSheet(
    { domain: 'shop.example', host: HOST, keys: [], stage: 'none' },
    lookupIn([['shop.example', 'TXT', text]]),
    'nobody',
  );
  expect(records.find((one) => one.subject === 'spf')?.value).toBe(text);
  expect(notes.join(' ')).toContain('left unchanged');
});
