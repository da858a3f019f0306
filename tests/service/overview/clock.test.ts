import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { RemoteHost } from '../../../src/service/base/ports.ts';
import { ServiceClock } from '../../../src/service/base/service-clock.ts';
import { admitWaiting } from '../../../src/service/delivery/admit.ts';
import { Deliverer } from '../../../src/service/delivery/deliver.ts';
import { listQueue } from '../../../src/service/delivery/queue.ts';
import { addMailbox } from '../../../src/service/directory/mailboxes.ts';
import { setLimits } from '../../../src/service/limits/edit-limits.ts';
import { ledger, statement } from '../../../src/service/limits/statements.ts';
import { clockReport, realignClock } from '../../../src/service/overview/clock-report.ts';
import { listRecipients } from '../../../src/store/journeys.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { holdMessage } from '../../support/held.ts';
import { lookupIn } from '../../support/lookup.ts';

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
const DAY = 24 * HOUR;
const ANA = 'ana@shop.example';
let bare: Bare;
beforeEach(async () => {
  bare = await openBare({
    lookup: lookupIn([
      ['out.example', 'MX', '10 mx.out.example'],
      ['mx.out.example', 'A', '203.0.113.1'],
    ]),
  });
});
afterEach(() => bare.close());

describe('the service’s clock', () => {
  it('is moved by no step of the wall’s, and tells of it', () => {
    let [wall, machine] = [1_000_000_000, 0];
    const clock = new ServiceClock(
      0,
      () => wall,
      () => machine,
    );
    machine += 5000;
    wall += 5000 - 2 * HOUR;
    expect(clock.steady()).toBe(1_000_005_000);
    expect(clock.stepped).toBe(-2 * HOUR);
    expect(clock.ahead).toBe(0);
    wall += 2 * HOUR;
    expect(clock.stepped).toBe(0);
  });
  it('begins no earlier than what the database has seen; a start that much before it is told of, until it is put right', () => {
    let machine = 0;
    const wall = (): number => 1_000_000_000 + machine;
    const clock = new ServiceClock(1_000_000_000 + 2 * DAY, wall, () => machine);
    expect(clock.steady()).toBe(1_000_000_000 + 2 * DAY);
    expect(clock.ahead).toBe(2 * DAY);
    expect(clock.stepped).toBe(0);
    machine += 1000;
    clock.realign();
    expect([clock.steady(), clock.ahead]).toEqual([wall(), 0]);
  });
});

it('a retry due in a minute is due in a minute, wherever the wall’s clock goes; people read the wall’s time', async () => {
  const { context } = bare;
  let code = 451;
  let tried = 0;
  context.send = async (_host: RemoteHost, { recipients }) => {
    tried += 1;
    const reply = { code, text: `${Math.floor(code / 100)}.0.0 so` };
    return {
      kind: 'done',
      tls: null,
      dsn: false,
      outcomes: recipients.map(({ address }) => ({
        recipient: address,
        kind: code < 300 ? ('taken' as const) : ('later' as const),
        reply,
      })),
    };
  };
  const deliverer = new Deliverer(context, () => 0.5);
  const attempted = (): Promise<void> => new Promise((resolve) => context.signals.once('attempted', () => resolve()));
  const first = attempted();
  const id = await bare.submit(ANA, ['leo@out.example']);
  await first;
  bare.clock.wall -= 2 * HOUR;
  expect((await listQueue(context, {})).rows[0]?.nextAttemptAt).toBe(bare.clock.wall + MINUTE);
  bare.pass(MINUTE);
  code = 250;
  const second = attempted();
  context.signals.emit('mail', null);
  await second;
  expect(tried).toBe(2);
  expect(listRecipients(context.db, id ?? '')[0]?.state).toBe('relayed');
  await deliverer.stop();
});

it('mail that waits for days is not given up because the clock leaps', async () => {
  await setLimits(bare.context, 'shop.example', {
    limits: [{ period: 'hour', quantity: 'sends', amount: 0 }],
    whenFull: 'hold',
    holdHours: 48,
  });
  const id = await holdMessage(bare, ANA, ['leo@out.example']);
  bare.clock.wall += 400 * DAY;
  await admitWaiting(bare.context);
  expect(listRecipients(bare.context.db, id)[0]).toMatchObject({ state: 'queued', held: 'limit' });
  bare.clock.steady += 49 * HOUR;
  await admitWaiting(bare.context);
  expect(listRecipients(bare.context.db, id)[0]?.state).toBe('failed');
});

it('what was charged while the clock was two days ahead is dated anew, and no sum changes', async () => {
  const { context, clock } = bare;
  const day = (at: number): string => new Date(at).toISOString().slice(0, 10);
  await bare.submit(ANA, ['a@out.example', 'b@out.example']);
  const right = clock.wall;
  clock.steady += 2 * DAY;
  clock.wall += 2 * DAY;
  await bare.submit(ANA, ['c@out.example']);
  await bare.submit(ANA, ['d@out.example', 'e@out.example']);
  // The machine's clock is put right, and the service started again: its time begins where the ledger ends.
  clock.wall = right + 5 * MINUTE;
  Object.assign(context.clock, { ahead: clock.steady - clock.wall });
  expect((await statement(context, 'server', undefined, undefined)).total.sends).toBe(2);
  expect(clockReport(context)).toMatchObject({ aheadMs: clock.steady - clock.wall, chargesAhead: 2 });
  const before = (await ledger(context, 'server', 0)).total;
  const done = await realignClock(context);
  Object.assign(context.clock, { ahead: 0 });
  expect(done).toMatchObject({ charges: 2, chargesAhead: 0 });
  expect((await ledger(context, 'server', 0)).total).toEqual(before);
  expect((await statement(context, 'server', day(right), day(right + DAY))).total.sends).toBe(5);
  expect(context.limits.used({ kind: 'server', id: 0 }, 'hour').sends).toBe(5);
  const order = context.db.all<{ seq: number }>('SELECT seq FROM ledger ORDER BY at, seq').map((one) => one.seq);
  expect(order).toEqual([...order].sort((one, other) => one - other));
  await expect(realignClock(context)).rejects.toThrow(/not ahead/);
});

it('five hundred who wait under one full limit keep nobody waiting who pays by another; within one the first goes first', async () => {
  const { context } = bare;
  await addMailbox(context, { address: 'leo@shop.example', password: null, quotaBytes: null });
  await setLimits(context, ANA, { limits: [{ period: 'hour', quantity: 'sends', amount: 0 }], whenFull: 'hold' });
  const full: string[] = [];
  for (let number = 0; number < 6; number += 1)
    full.push(
      await holdMessage(
        bare,
        ANA,
        Array.from({ length: 100 }, (_none, at) => `r${number}-${at}@out.example`),
      ),
    );
  await admitWaiting(context);
  const others = [
    await holdMessage(bare, 'leo@shop.example', ['x@out.example']),
    await holdMessage(bare, 'leo@shop.example', ['y@out.example']),
  ];
  await setLimits(context, 'leo@shop.example', { limits: [{ period: 'hour', quantity: 'sends', amount: 1 }], whenFull: 'hold' });
  await admitWaiting(context);
  const held = (id: string) => listRecipients(context.db, id).map((one) => one.held);
  expect(others.map(held)).toEqual([[null], ['limit']]);
  expect(full.flatMap(held).every((one) => one === 'limit')).toBe(true);
});
