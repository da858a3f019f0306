import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type Amounts, addTo, type Limit, NONE } from '../../../src/core/limits/amounts.ts';
import { dayName, dayOf, dayStart, isTimeZone, monthOf } from '../../../src/core/limits/calendar.ts';
import { charge, decide, type LimitAccount } from '../../../src/core/limits/decide.ts';
import { DAY, HOUR, MINUTE } from '../../../src/core/limits/periods.ts';
import { Room } from '../../../src/core/limits/room.ts';
import { Usage } from '../../../src/core/limits/usage.ts';
import { brakeDue, usualRate } from '../../../src/core/limits/usual.ts';
import { QUANTITIES } from '../../../src/core/vocabulary.ts';

const NOW = Date.UTC(2026, 10, 23, 12);
const sends = (number: number): Amounts => ({ messages: 1, sends: number, bytes: 1000 });
const account = (limits: Limit[], whenFull: LimitAccount['whenFull'] = 'refuse', zone = 'UTC'): LimitAccount => ({
  usage: new Usage(zone),
  room: new Room(),
  number: 0,
  limits,
  edition: 1,
  whenFull,
});
const limit = (period: Limit['period'], amount: number, quantity: Limit['quantity'] = 'sends'): Limit => ({ period, quantity, amount });

const less = (one: Amounts, other: Amounts): Amounts => ({
  messages: one.messages - other.messages,
  sends: one.sends - other.sends,
  bytes: one.bytes - other.bytes,
});

const LENGTH = { minute: MINUTE, hour: HOUR, day: DAY } as const;

it('never lets a true window hold more than the limit, and gives room at the time it names', () => {
  const step = fc.record({
    wait: fc.integer({ min: 0, max: 40 * MINUTE }),
    ask: fc.integer({ min: 1, max: 4 }),
    move: fc.constantFrom('on', 'back', 'patient'),
  });
  fc.assert(
    fc.property(
      fc.array(step, { minLength: 5, maxLength: 60 }),
      fc.constantFrom('minute' as const, 'hour' as const, 'day' as const),
      fc.integer({ min: 3, max: 12 }),
      (steps, period, most) => {
        const one = account([limit(period, most)]);
        const accepted: { at: number; sends: number }[] = [];
        let now = NOW;
        // A clock that goes back says nothing about the time that has passed: for the account it is still the latest time.
        let latest = Number.NEGATIVE_INFINITY;
        const take = (ask: number): void => {
          charge(one, now, sends(ask));
          accepted.push({ at: latest, sends: ask });
        };
        for (const { wait, ask, move } of steps) {
          // A clock that is set back by some minutes now and then.
          now += move === 'back' ? -Math.min(wait, 10 * MINUTE) : wait;
          latest = Math.max(latest, now);
          const certainlyFits = one.room.fits(one.number, sends(ask), one.edition);
          const decision = decide([one], sends(ask), now);
          // Who finds room in the figures alone would have been given it.
          if (certainlyFits) expect(decision.kind).toBe('room');
          if (decision.kind === 'room') take(ask);
          else if (decision.roomAt !== null && move === 'patient') {
            expect(decision.roomAt).toBeGreaterThan(now);
            now = decision.roomAt;
            latest = Math.max(latest, now);
            expect(decide([one], sends(ask), now).kind).toBe('room');
            take(ask);
          }
        }
        for (const { at } of accepted) {
          const inside = accepted.filter((other) => other.at > at - LENGTH[period] && other.at <= at);
          expect(inside.reduce((total, other) => total + other.sends, 0)).toBeLessThanOrEqual(most);
        }
      },
    ),
  );
});

it('an account’s figures are those of a plain list of its charges, over thousands of them, by every period and quantity', () => {
  const GRAIN = { minute: 1000, hour: MINUTE, day: MINUTE } as const;
  const PERIODS = ['minute', 'hour', 'day'] as const;
  const charges = fc.array(fc.record({ wait: fc.nat(100_000), messages: fc.nat(2), sends: fc.nat(5), bytes: fc.nat(9000) }), {
    minLength: 2200,
    maxLength: 2600,
  });
  fc.assert(
    fc.property(charges, fc.array(fc.nat(), { minLength: 40, maxLength: 40 }), (list, draws) => {
      const usage = new Usage('UTC');
      const made: (Amounts & { at: number })[] = [];
      let now = NOW;
      const counted = (period: (typeof PERIODS)[number], quantity: keyof Amounts, at: number): number =>
        made
          .filter((one) => (Math.floor(one.at / GRAIN[period]) + 1) * GRAIN[period] > at - LENGTH[period])
          .reduce((total, one) => total + one[quantity], 0);
      for (const [number, { wait, ...amounts }] of list.entries()) {
        now += wait;
        usage.add(now, amounts);
        made.push({ at: now, ...amounts });
        // Looking costs time with so many; what is looked at now and then is what was right all along.
        const draw = number % 60 === 0 ? draws[number / 60] : undefined;
        if (draw === undefined) continue;
        for (const period of PERIODS)
          for (const quantity of QUANTITIES) {
            const used = counted(period, quantity, now);
            expect(usage.used(period, now)[quantity]).toBe(used);
            const most = draw % (used + 2);
            const when = usage.whenAtMost(period, quantity, most, now);
            expect(counted(period, quantity, when as number)).toBeLessThanOrEqual(most);
            if (used <= most) expect(when).toBe(now);
            else expect(counted(period, quantity, (when as number) - 1)).toBeGreaterThan(most);
          }
        expect(usage.whenAtMost('hour', 'sends', -1, now)).toBeNull();
      }
      expect(usage.isIdle(now + DAY - MINUTE)).toBe(false);
      expect(usage.isIdle(now + DAY + MINUTE)).toBe(true);
    }),
    { numRuns: 5, endOnFailure: true },
  );
});

it('the month counts what it was told, and says when it ends', () => {
  const usage = new Usage('UTC');
  const end = Date.UTC(2026, 11, 1);
  usage.addToCalendar(Date.UTC(2026, 10, 1), { messages: 10, sends: 20, bytes: 30 });
  usage.add(NOW, { messages: 3, sends: 4, bytes: 5 });
  expect(usage.used('month', NOW)).toEqual({ messages: 13, sends: 24, bytes: 35 });
  expect(usage.used('day', NOW)).toEqual({ messages: 3, sends: 4, bytes: 5 });
  const when = (most: number): number | null => usage.whenAtMost('month', 'sends', most, NOW);
  expect([when(24), when(23), when(0), when(-1)]).toEqual([NOW, end, end, null]);
});

it('room is said to be there up to the last unit of each quantity, and for who wants nothing of it', () => {
  const room = new Room();
  const free = { messages: 2, sends: 3, bytes: 4 };
  room.measured(0, free, 7);
  const fits = (messages: number, sent: number, bytes: number): boolean => room.fits(0, { messages, sends: sent, bytes }, 7);
  expect([fits(2, 3, 4), fits(3, 3, 4), fits(2, 4, 4), fits(2, 3, 5)]).toEqual([true, false, false, false]);
  expect(room.fits(0, free, 8)).toBe(false);
  expect([room.sendsLeft(0), room.sendsLeft(5000)]).toEqual([3, 0]);
  room.promise(0, { messages: 2, sends: 0, bytes: 5 }, 1);
  // Less than nothing is left of two of them; who asks for none of those gets on.
  expect([fits(0, 3, 0), fits(1, 0, 0), fits(0, 0, 1)]).toEqual([true, false, false]);
  room.promise(0, { messages: 2, sends: 3, bytes: 5 }, 1);
  expect([fits(0, 0, 0), fits(0, 1, 0)]).toEqual([true, false]);
  // Another edition: what its neighbours had is known no longer, what the next block has is.
  room.measured(1, free, 7);
  room.measured(1023, free, 7);
  room.measured(1024, free, 7);
  room.measured(1, free, 8);
  expect([0, 1, 1023].map((account) => room.fits(account, { messages: 0, sends: 1, bytes: 0 }, 8))).toEqual([false, true, false]);
  expect(room.fits(1024, free, 7)).toBe(true);
  room.forget(1024);
  room.forget(1_000_000);
  expect(room.fits(1024, { messages: 0, sends: 1, bytes: 0 }, 7)).toBe(false);
});

it('asks every limit of every account, and names the one that holds longest', () => {
  const domain = account([limit('minute', 5), limit('day', 20), limit('month', 3000, 'bytes')]);
  const mailbox = account([limit('hour', 8), limit('day', 2, 'messages')], 'hold');
  const ask = (amounts: Amounts, now = NOW) => decide([domain, mailbox], amounts, now);
  expect(ask(sends(5))).toEqual({ kind: 'room' });
  for (const one of [domain, mailbox]) charge(one, NOW, sends(5));
  // The minute is full, but the mailbox's hour holds longer; one of the two refuses, so it is not held.
  expect(ask(sends(4), NOW + 1000)).toMatchObject({
    account: 1,
    limit: { period: 'hour' },
    used: 5,
    roomAt: NOW + 61 * MINUTE,
    hold: false,
  });
  // Later only the mailbox is full, and it holds.
  expect(ask(sends(4), NOW + 2 * MINUTE)).toMatchObject({ account: 1, hold: true });
  for (const one of [domain, mailbox]) charge(one, NOW + 2 * HOUR, sends(3));
  expect(ask(sends(1), NOW + 3 * HOUR)).toMatchObject({ account: 1, limit: { quantity: 'messages' }, used: 2 });
  expect(ask({ messages: 0, sends: 1, bytes: 1001 }, NOW + 3 * HOUR)).toMatchObject({
    account: 0,
    limit: { period: 'month', quantity: 'bytes' },
    roomAt: Date.UTC(2026, 11, 1),
  });
  // More than the limit at all: no time helps, and nothing is kept for it.
  expect(decide([mailbox], sends(9), NOW + 2 * DAY)).toMatchObject({ roomAt: null, hold: false });
  domain.room.promise(0, { messages: 0, sends: 20, bytes: 0 }, 1);
  expect(decide([domain], { messages: 0, sends: 1, bytes: 0 }, NOW + 2 * DAY)).toMatchObject({ used: 0, roomAt: null });
});

it('keeps the figures of many accounts exactly, whatever is promised, charged, measured and forgotten in between', () => {
  const accounts = fc.constantFrom(0, 1, 4095, 4096, 9000);
  const amounts = fc.record({
    messages: fc.integer({ min: 0, max: 3 }),
    sends: fc.integer({ min: 0, max: 100 }),
    // Open connections may together be promised far more octets than 32 bits count.
    bytes: fc.integer({ min: 0, max: 2 ** 36 }),
  });
  const most = fc.constantFrom(0, 5, 2 ** 31, 2 ** 37, Number.POSITIVE_INFINITY);
  const free = fc.record({ messages: most, sends: most, bytes: most });
  const step = fc.oneof(
    fc.record({ kind: fc.constant('promise' as const), account: accounts, amounts }),
    fc.record({ kind: fc.constant('release' as const), account: accounts }),
    fc.record({ kind: fc.constant('charge' as const), account: accounts, amounts }),
    fc.record({ kind: fc.constant('measure' as const), account: accounts, amounts: free }),
    fc.record({ kind: fc.constant('forget' as const), account: accounts }),
    fc.record({ kind: fc.constant('edition' as const), account: accounts }),
  );
  fc.assert(
    fc.property(fc.array(step, { maxLength: 60 }), fc.array(amounts, { minLength: 3, maxLength: 3 }), (steps, questions) => {
      const room = new Room();
      let edition = 1;
      /** What is promised to whom, and free as far as it was measured by this edition. */
      const promised = new Map<number, Amounts[]>();
      const known = new Map<number, Amounts>();
      for (const one of steps) {
        const { account } = one;
        const promises = promised.get(account) ?? [];
        promised.set(account, promises);
        if (one.kind === 'promise') {
          promises.push(one.amounts);
          room.promise(account, one.amounts, 1);
        } else if (one.kind === 'release') {
          const back = promises.shift();
          if (back) room.promise(account, back, -1);
        } else if (one.kind === 'charge') {
          room.charge(account, one.amounts);
          const before = known.get(account);
          if (before) known.set(account, less(before, one.amounts));
        } else if (one.kind === 'measure') {
          room.measured(account, one.amounts, edition);
          known.set(account, one.amounts);
        } else if (one.kind === 'forget') {
          room.forget(account);
          known.delete(account);
        } else {
          edition += 1;
          known.clear();
        }
        const total = promises.reduce((sum, one) => addTo(sum, one), { ...NONE });
        for (const quantity of QUANTITIES) expect(room.promised(account, quantity)).toBe(total[quantity]);
        expect(room.isPromised(account)).toBe(QUANTITIES.some((quantity) => total[quantity] > 0));
        const left = known.get(account);
        for (const asked of questions)
          expect(room.fits(account, asked, edition)).toBe(
            left !== undefined &&
              QUANTITIES.every((quantity) => asked[quantity] === 0 || total[quantity] + asked[quantity] <= left[quantity]),
          );
      }
    }),
  );
});

describe('the calendar of a time zone', () => {
  it.each([
    ['UTC', '2026-11-23T12:00:00Z', '2026-11-01T00:00:00Z', '2026-12-01T00:00:00Z'],
    // Clocks go forward on 29 March and back on 25 October.
    ['Europe/Madrid', '2026-03-31T22:30:00Z', '2026-03-31T22:00:00Z', '2026-04-30T22:00:00Z'],
    ['Europe/Madrid', '2026-03-10T00:00:00Z', '2026-02-28T23:00:00Z', '2026-03-31T22:00:00Z'],
    ['Europe/Madrid', '2026-10-31T23:30:00Z', '2026-10-31T23:00:00Z', '2026-11-30T23:00:00Z'],
    ['America/St_Johns', '2026-01-01T03:29:59Z', '2025-12-01T03:30:00Z', '2026-01-01T03:30:00Z'],
    ['Pacific/Kiritimati', '2026-06-30T10:00:00Z', '2026-06-30T10:00:00Z', '2026-07-31T10:00:00Z'],
  ])('month in %s at %s', (zone, at, start, end) => {
    expect(monthOf(Date.parse(at), zone)).toEqual({ start: Date.parse(start), end: Date.parse(end) });
  });

  it('days have 23, 24 or 25 hours, and follow one another without a gap', () => {
    const hours = (day: string) => {
      const { start, end } = dayOf(dayStart(day, 'Europe/Madrid') ?? 0, 'Europe/Madrid');
      return (end - start) / HOUR;
    };
    expect([hours('2026-03-29'), hours('2026-03-30'), hours('2026-10-25')]).toEqual([23, 24, 25]);
    // Midnight itself is skipped where clocks go forward at midnight.
    const skipped = dayOf(Date.parse('2026-03-29T12:00:00Z'), 'Asia/Beirut');
    expect((skipped.end - skipped.start) / HOUR).toBe(23);
    fc.assert(
      fc.property(
        fc.integer({ min: NOW - 800 * DAY, max: NOW + 800 * DAY }),
        fc.constantFrom('Europe/Madrid', 'Asia/Beirut', 'Asia/Kathmandu'),
        (at, zone) => {
          const { start, end } = dayOf(at, zone);
          expect(start <= at && at < end).toBe(true);
          expect(dayOf(end, zone).start).toBe(end);
          expect(dayStart(dayName(at, zone), zone)).toBe(start);
        },
      ),
    );
  });

  it('knows zones and dates from nonsense', () => {
    expect([isTimeZone('Europe/Madrid'), isTimeZone('Mars/Base')]).toEqual([true, false]);
    expect([dayStart('2026-02-30', 'UTC'), dayStart('yesterday', 'UTC')]).toEqual([null, null]);
  });
});

it('a month ends where the provider’s month ends, and a clock set back does not reopen it', () => {
  const one = account([limit('month', 10)], 'refuse', 'Europe/Madrid');
  const end = Date.parse('2026-10-31T23:00:00Z');
  charge(one, end - 1, sends(10));
  expect(decide([one], sends(1), end - 1)).toMatchObject({ kind: 'full', roomAt: end });
  expect(decide([one], sends(1), end).kind).toBe('room');
  charge(one, end, sends(10));
  expect(decide([one], sends(1), end - HOUR)).toMatchObject({ kind: 'full' });
});

it('a calendar day ends at midnight there, of 23 or 25 hours as it may be, while a sliding day still counts', () => {
  // Clocks in Madrid go back on 25 October 2026.
  const [start, end] = [Date.parse('2026-10-24T22:00:00Z'), Date.parse('2026-10-25T23:00:00Z')];
  const one = account([limit('calendar-day', 10)], 'refuse', 'Europe/Madrid');
  charge(one, start - 1, sends(10));
  charge(one, start, sends(10));
  expect(decide([one], sends(1), start)).toMatchObject({ kind: 'full', roomAt: end });
  expect(decide([one], sends(11), start)).toMatchObject({ kind: 'full', roomAt: null });
  expect(decide([one], sends(1), end - 1).kind).toBe('full');
  expect(decide([one], sends(10), end).kind).toBe('room');
  expect([one.usage.used('day', end).sends, one.usage.used('calendar-day', end).sends]).toEqual([0, 0]);
  charge(one, end - 1, sends(4));
  // A clock set back is still on the later day.
  expect(one.usage.used('calendar-day', end - HOUR).sends).toBe(4);
});

it('usual behaviour: one wild week changes nothing, too few weeks say nothing', () => {
  expect(usualRate([1, 2, 3])).toBeNull();
  const habit = usualRate([4, 5, 6, 5, 4, 6, 5, 5]);
  expect(habit).toEqual({ median: 5, threshold: 30 });
  expect(usualRate([4, 5, 6, 5, 4, 6, 5, 900])?.threshold).toBe(30);
  expect(usualRate([100, 110, 90, 105, 95, 100])).toMatchObject({ median: 100, threshold: 400 });
  // Of an even number the two in the middle count, of an odd one the middle; and so for how far they lie from it.
  expect(usualRate([400, 100, 300, 200, 100, 400])?.median).toBe(250);
  expect(usualRate([400, 100, 300, 200, 100, 400, 1000])).toEqual({ median: 300, threshold: 1486.08 });
  // A sender whose hours differ wildly is not flagged for one of them.
  expect(usualRate([0, 200, 10, 150, 0, 190, 5, 170])?.threshold).toBeGreaterThan(900);
  expect([
    brakeDue(19, 19, { share: 40, least: 20 }),
    brakeDue(8, 20, { share: 40, least: 20 }),
    brakeDue(7, 20, { share: 40, least: 20 }),
  ]).toEqual([false, true, false]);
});
