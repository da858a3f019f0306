import { afterEach, beforeEach, expect, it } from 'vitest';
import { Archive } from '../../../src/service/journal/archive.ts';
import { setLimits, showLimits } from '../../../src/service/limits/edit-limits.ts';
import { statement } from '../../../src/service/limits/statements.ts';
import { type Bare, openBare } from '../../support/context.ts';

const DAY = 24 * 3_600_000;
const ANA = 'ana@shop.example';
let bare: Bare;
let archive: Archive;

beforeEach(async () => {
  bare = await openBare({ start: Date.parse('2026-03-01T12:00:00Z') });
  archive = new Archive(bare.context, { keepDays: 400, mostEntries: 1_000_000, ledgerDays: 62 });
});
afterEach(() => bare.close());

const send = (count: number) =>
  bare.submit(
    ANA,
    Array.from({ length: count }, (_none, at) => `r${at}@out.example`),
  );
const charges = () => bare.context.db.all<{ seq: number; sends: number }>('SELECT seq, sends FROM ledger ORDER BY seq');
const tidy = async () => {
  while (await archive.work());
};

it('charges older than the ledger is kept are forgotten, a little at a time; limits and newer statements do not change', async () => {
  await setLimits(bare.context, 'shop.example', { limits: [{ period: 'month', quantity: 'sends', amount: 2000 }] });
  for (let number = 0; number < 900; number += 1) await send(1);
  bare.pass(40 * DAY);
  for (const sends of [2, 3]) await send(sends);
  const month = () => showLimits(bare.context, 'shop.example').limits[0]?.used;
  expect(month()).toBe(5);
  await tidy();
  expect(charges()).toHaveLength(902);
  bare.pass(23 * DAY);
  // Sixty-three days after the first ones: no piece of work takes more than its share.
  expect(await archive.work()).toBe(true);
  expect(charges()).toHaveLength(852);
  await tidy();
  expect(charges()).toEqual([
    { seq: 901, sends: 2 },
    { seq: 902, sends: 3 },
  ]);
  expect((await statement(bare.context, 'shop.example', '2026-04-01', '2026-04-30')).total.sends).toBe(5);
  expect((await statement(bare.context, 'shop.example', '2026-03-01', '2026-03-31')).total.sends).toBe(0);
  expect(month()).toBe(0);
  await send(4);
  expect(month()).toBe(4);
});

it('the newest charge stays, so that the numbers go on from there', async () => {
  await setLimits(bare.context, 'shop.example', { limits: [{ period: 'hour', quantity: 'sends', amount: 10 }] });
  for (let number = 0; number < 5; number += 1) await send(1);
  expect(showLimits(bare.context, 'shop.example').limits[0]?.used).toBe(5);
  bare.pass(700 * DAY);
  await tidy();
  expect(charges()).toEqual([{ seq: 5, sends: 1 }]);
  await send(10);
  expect(charges().map((one) => one.seq)).toEqual([5, 6]);
  expect(showLimits(bare.context, 'shop.example').limits[0]?.used).toBe(10);
  expect(await send(1)).toBeNull();
});

it('pages that nobody has needed for a minute go back to the disk, a few at a time; those that mail takes again and again stay', async () => {
  const { db } = bare.context;
  const fill = (rows: number) =>
    db.commit(() => {
      for (let at = 0; at < rows; at += 1) db.run('INSERT INTO setting (name, value) VALUES (?, ?)', `filler ${at}`, 'x'.repeat(4000));
    });
  const empty = () => db.commit(() => void db.run("DELETE FROM setting WHERE name LIKE 'filler %'"));
  for (let turn = 0; turn < 5; turn += 1) {
    await fill(4000);
    await tidy();
    await empty();
    await tidy();
    bare.pass(30_000);
  }
  const kept = db.freePages();
  expect(kept).toBeGreaterThan(3500);
  await tidy();
  bare.pass(60_000);
  expect(await archive.work()).toBe(false);
  bare.pass(60_000);
  expect(await archive.work()).toBe(true);
  expect(db.freePages()).toBe(kept - 200);
  // Mail comes in the middle of it: it has what it needs.
  await fill(3000);
  await tidy();
  await empty();
  bare.pass(60_000);
  await tidy();
  bare.pass(60_000);
  await tidy();
  expect(db.freePages()).toBe(2000);
});
