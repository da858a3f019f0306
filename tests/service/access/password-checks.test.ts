import fc from 'fast-check';
import { expect, it } from 'vitest';
import { type PasswordAttempt, PasswordChecks } from '../../../src/service/access/password-checks.ts';
import { SignInGuard } from '../../../src/service/access/sign-in-guard.ts';

const MINUTE = 60_000;
const FREE: PasswordAttempt = { mayTry: () => true, failed: () => {} };

/** Comparisons that end when the test says so; what is kept of a password is the password. */
function slowly(atOnce: number) {
  const under: (() => void)[] = [];
  let most = 0;
  let compared = 0;
  const checks = new PasswordChecks(atOnce, async (password, kept) => {
    compared += 1;
    await new Promise<void>((resolve) => {
      under.push(resolve);
      most = Math.max(most, under.length);
    });
    return password === kept;
  });
  const turn = () => new Promise<void>((resolve) => setImmediate(resolve));
  return {
    checks,
    turn,
    get most() {
      return most;
    },
    get compared() {
      return compared;
    },
    /** Lets comparisons end, one after the other, until none is under way. */
    async drain() {
      for (await turn(); under.length > 0; await turn()) under.shift()?.();
    },
  };
}

it('only so many are compared at once, all are answered, and who comes behind a hundred is asked to come again', async () => {
  await fc.assert(
    fc.asyncProperty(fc.integer({ min: 1, max: 4 }), fc.integer({ min: 0, max: 130 }), async (atOnce, count) => {
      const slow = slowly(atOnce);
      const answers = Array.from({ length: count }, (_none, number) => slow.checks.compare(`p${number}`, 'p7', 0, FREE));
      await slow.drain();
      const results = await Promise.all(answers);
      expect(slow.most).toBe(Math.min(atOnce, count));
      expect(results.filter((one) => one === 'busy')).toHaveLength(Math.max(0, count - 100));
      expect(results.map((one, number) => [one, number]).filter(([one]) => one === 'right')).toEqual(count > 7 ? [['right', 7]] : []);
      // Nobody is left behind: there is room for the next.
      const next = slow.checks.compare('p7', 'p7', 1, FREE);
      await slow.drain();
      expect(await next).toBe('right');
    }),
    { numRuns: 30 },
  );
});

it('of many guesses at once only the first few are compared, whoever they come for', async () => {
  const slow = slowly(2);
  const guard = new SignInGuard();
  const attempt: PasswordAttempt = {
    mayTry: () => guard.wait('192.0.2.1', 'ana', 0) === 0,
    failed: () => guard.failed('192.0.2.1', 'ana', 0),
  };
  const answers = Array.from({ length: 60 }, (_none, number) => slow.checks.compare(`guess ${number}`, 'secret', 0, attempt));
  await slow.drain();
  const results = await Promise.all(answers);
  // Five are free, the sixth closes the door, and one more was under way beside it.
  expect(results.filter((one) => one === 'wrong').length).toBeLessThanOrEqual(7);
  expect(results.filter((one) => one === 'held').length).toBeGreaterThanOrEqual(53);
  expect(slow.compared).toBeLessThanOrEqual(7);
});

it('a password that was right is known for a quarter of an hour, for that user and as long as it is the password', async () => {
  const slow = slowly(1);
  const ask = async (password: string, kept: string | null, now: number, attempt = FREE) => {
    const answer = slow.checks.compare(password, kept, now, attempt);
    await slow.drain();
    return [await answer, slow.compared];
  };
  expect(await ask('calm', 'calm', 0)).toEqual(['right', 1]);
  expect(await ask('calm', 'calm', 14 * MINUTE)).toEqual(['right', 1]);
  expect(await ask('calm', 'calm', 14 * MINUTE, { ...FREE, mayTry: () => false })).toEqual(['held', 1]);
  expect(await ask('calm', 'changed', 14 * MINUTE)).toEqual(['wrong', 2]);
  expect(await ask('calm', null, 14 * MINUTE)).toEqual(['wrong', 3]);
  expect(await ask('cal', 'calm', 14 * MINUTE)).toEqual(['wrong', 4]);
  expect(await ask('calm', 'calm', 15 * MINUTE)).toEqual(['right', 5]);
  // The clock was set back: what it says of the past is worth nothing.
  expect(await ask('calm', 'calm', 2 * MINUTE)).toEqual(['right', 6]);
});
