import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { InvalidArgumentError } from 'commander';
import fc from 'fast-check';
import { expect, it } from 'vitest';
import { limitArgument, limitLine } from '../../src/cli/limit-values.ts';
import { readNamedList } from '../../src/cli/named-file.ts';
import { momentOption, positiveNumber, sizeOption, spanOption, wholeNumber } from '../../src/cli/numbers.ts';
import { count, facts, harmlessJson, mark, meter, safe, size, table, time } from '../../src/cli/output.ts';

it('tables line up, numbers to the right, nothing behind the last column', () => {
  const text = table(
    ['name', 'sends', 'state'],
    [
      ['olmo', 12, 'x'],
      ['a longer one', 1234, null],
    ],
  );
  expect(text.split('\n')).toEqual(['name          sends  state', 'olmo             12  x', 'a longer one  1,234  –']);
  expect(
    facts([
      ['a', '1'],
      ['long', '2'],
    ]),
  ).toBe('a     1\nlong  2');
});

it('sizes, times, meters and counts are for people', () => {
  expect([0, 1023, 1024, 10 * 1024, 1024 ** 2 * 1.5, 1024 ** 3 * 20].map(size)).toEqual([
    '0 B',
    '1023 B',
    '1.0 KiB',
    '10 KiB',
    '1.5 MiB',
    '20 GiB',
  ]);
  expect(time(Date.UTC(2026, 10, 23, 9, 5, 7))).toBe('2026-11-23 09:05:07');
  expect([meter(0, 10), meter(5, 10), meter(10, 10), meter(0, 0), meter(7, null)]).toEqual([
    '░░░░░░░░░░ 0 of 10',
    '█████░░░░░ 5 of 10',
    '██████████ 10 of 10',
    '██████████ 0 of 0',
    '7, no limit',
  ]);
  expect([
    count(1, 'send'),
    count(2000, 'send'),
    count(2, 'mailbox', 'mailboxes'),
    limitLine({ period: 'day', quantity: 'sends', amount: null }),
    mark('missing'),
    mark(null),
  ]).toEqual(['1 send', '2,000 sends', '2 mailboxes', 'no limit of sends per day', '○ missing', '–']);
});

it('a list is read as spreadsheets write it', () => {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-lists-'));
  const file = join(folder, 'list.csv');
  const text = 'address;name\nj@shop.example;Jürgen Müß\n';
  for (const octets of [
    Buffer.from(text),
    Buffer.from(`\ufeff${text}`),
    Buffer.from(text, 'latin1'),
    Buffer.from(`\ufeff${text}`, 'utf16le'),
    Buffer.from(`\ufeff${text}`, 'utf16le').swap16(),
  ]) {
    writeFileSync(file, octets);
    expect(readNamedList(file)).toBe(text);
  }
  expect(() => readNamedList(join(folder, 'none.csv'))).toThrow(/it does not exist/);
  rmSync(folder, { recursive: true });
});

it('a meter is full only when the limit is reached', () => {
  fc.assert(
    fc.property(fc.nat(10_000), fc.integer({ min: 1, max: 10_000 }), (used, limit) => meter(used, limit).includes('░') === used < limit),
  );
});

it('nothing from outside steers the terminal', () => {
  const steers = /[\p{Cc}\p{Zl}\p{Zp}\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\u{e0000}-\u{e007f}]/u;
  fc.assert(fc.property(fc.string({ unit: 'binary' }), (text) => !steers.test(safe(text))));
  // JSON says the same, and shows nothing of it.
  fc.assert(
    fc.property(fc.string({ unit: 'binary' }), (text) => {
      const written = harmlessJson({ text }, 2);
      expect(JSON.parse(written)).toEqual({ text });
      expect(steers.test(written.replaceAll('\n', ''))).toBe(false);
    }),
  );
  const all = '\u202e\u0007\u009b\u2028\u{e0041}';
  expect([safe(all), JSON.parse(harmlessJson(all))]).toEqual(['�����', all]);
});

it('options are read whole or refused', () => {
  expect([
    limitArgument('day=250'),
    limitArgument('month:bytes=2G'),
    limitArgument('hour:messages=none'),
    limitArgument('minute=plan').amount,
    spanOption('90m'),
    spanOption('1h30m'),
    momentOption('2026-12-01T18:00Z'),
    momentOption('2026-12-01T18:00+02:00'),
    sizeOption('2G'),
    sizeOption('500M'),
    sizeOption('1.5 GiB'),
    positiveNumber('0.5'),
  ]).toEqual([
    { period: 'day', quantity: 'sends', amount: 250 },
    { period: 'month', quantity: 'bytes', amount: 2 * 1024 ** 3 },
    { period: 'hour', quantity: 'messages', amount: null },
    'plan',
    5_400_000,
    5_400_000,
    Date.UTC(2026, 11, 1, 18),
    Date.UTC(2026, 11, 1, 16),
    2 * 1024 ** 3,
    500 * 1024 ** 2,
    1.5 * 1024 ** 3,
    0.5,
  ]);
  for (const wrong of ['', '-1', '1.5', 'many', '1e3', '9'.repeat(20)])
    expect(() => wholeNumber(wrong), wrong).toThrow(InvalidArgumentError);
  for (const wrong of ['', 'G', '2X', '-2G', '2GG', '64', '1e3M']) expect(() => sizeOption(wrong), wrong).toThrow(InvalidArgumentError);
  for (const wrong of ['', '2026-02-30', '2026-13-01', '25:00', '2026-12-01T18:00+2', 'now', '5x', '1h 30'])
    expect(() => momentOption(wrong), wrong).toThrow(InvalidArgumentError);
  for (const wrong of ['0', '-1', 'x', 'Infinity']) expect(() => positiveNumber(wrong), wrong).toThrow(InvalidArgumentError);
});
