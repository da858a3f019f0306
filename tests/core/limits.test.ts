import fc from 'fast-check';
import { expect, it } from 'vitest';
import { decideSends } from '../../src/core/limits/decide.ts';
import { DAY, HOUR, SendWindow } from '../../src/core/limits/window.ts';

type Step = { kind: 'wait'; ms: number } | { kind: 'send'; sends: number } | { kind: 'abandon'; sends: number };

const step: fc.Arbitrary<Step> = fc.oneof(
  fc.record({
    kind: fc.constant('wait' as const),
    ms: fc.oneof(fc.integer({ min: 0, max: 1000 }), fc.integer({ min: 0, max: 2 * HOUR }), fc.constantFrom(HOUR, DAY, HOUR - 1, HOUR + 1)),
  }),
  fc.record({ kind: fc.constant('send' as const), sends: fc.integer({ min: 1, max: 4 }) }),
  fc.record({ kind: fc.constant('abandon' as const), sends: fc.integer({ min: 1, max: 4 }) }),
);

it('agrees with counting every send anew, and never lets a window hold more than its limit', () => {
  fc.assert(
    fc.property(fc.array(step, { maxLength: 80 }), fc.integer({ min: 0, max: 6 }), fc.integer({ min: 0, max: 12 }), (steps, hour, day) => {
      const window = new SendWindow();
      const log: { at: number; sends: number }[] = [];
      let now = 1_000_000;
      const counted = (length: number, at: number): number =>
        log.filter((one) => one.at > at - length && one.at <= at).reduce((sum, one) => sum + one.sends, 0);
      for (const one of steps) {
        if (one.kind === 'wait') {
          now += one.ms;
          continue;
        }
        const decision = decideSends(window, { hour, day }, one.sends, now);
        const room = counted(HOUR, now) + one.sends <= hour && counted(DAY, now) + one.sends <= day;
        expect(decision.kind === 'room').toBe(room);
        if (decision.kind === 'full' && decision.roomAt !== null) {
          // There is room at the time that is told, and not a moment before.
          const fits = (at: number): boolean => counted(HOUR, at) + one.sends <= hour && counted(DAY, at) + one.sends <= day;
          const length = decision.period === 'hour' ? HOUR : DAY;
          expect(counted(length, decision.roomAt) + one.sends).toBeLessThanOrEqual(decision.limit);
          expect(fits(decision.roomAt - 1)).toBe(false);
          expect(decision.roomAt).toBeGreaterThan(now);
        }
        if (decision.kind === 'room' && one.kind === 'send') {
          window.add(now, one.sends);
          log.push({ at: now, sends: one.sends });
        }
        expect(counted(HOUR, now)).toBeLessThanOrEqual(hour);
        expect(counted(DAY, now)).toBeLessThanOrEqual(day);
      }
    }),
    { numRuns: 400 },
  );
});

it('reservations count until they are released', () => {
  const window = new SendWindow();
  window.reserved = 3;
  expect(decideSends(window, { hour: 4, day: null }, 1, 0)).toEqual({ kind: 'room' });
  expect(decideSends(window, { hour: 4, day: null }, 2, 0)).toEqual({ kind: 'full', period: 'hour', limit: 4, used: 0, roomAt: null });
  window.reserved = 0;
  expect(decideSends(window, { hour: 4, day: null }, 4, 0)).toEqual({ kind: 'room' });
});

it('a clock that steps back makes nothing free', () => {
  const window = new SendWindow();
  window.add(10 * HOUR, 5);
  window.add(2 * HOUR, 5);
  expect(window.used(2 * HOUR)).toEqual({ hour: 10, day: 10 });
  expect(decideSends(window, { hour: 10, day: null }, 1, 2 * HOUR)).toMatchObject({ kind: 'full', roomAt: 11 * HOUR });
});

it('the longest wait is the one that is told', () => {
  const window = new SendWindow();
  window.add(1, 10);
  expect(decideSends(window, { hour: 10, day: 10 }, 1, 2)).toMatchObject({ period: 'day', roomAt: 1 + DAY });
  expect(decideSends(window, { hour: 0, day: null }, 1, 2)).toMatchObject({ kind: 'full', limit: 0, roomAt: null });
  expect(decideSends(window, { hour: null, day: null }, 1_000_000, 2)).toEqual({ kind: 'room' });
});
