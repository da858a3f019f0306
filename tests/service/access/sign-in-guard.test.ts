import { expect, it } from 'vitest';
import { SignInGuard } from '../../../src/service/access/sign-in-guard.ts';
import { hashPassword, newJourneyId, passwordMatches } from '../../../src/service/base/secrets.ts';

const MINUTE = 60_000;

const here = '192.0.2.1';
const times = (count: number, work: (number: number) => void): void => {
  for (let number = 0; number < count; number += 1) work(number);
};

it('five wrong sign-ins are free; then the wait doubles up to a quarter of an hour, for the address whatever the account', () => {
  const guard = new SignInGuard();
  const waits: number[] = [];
  times(18, () => {
    guard.failed(here, 'Ana@x.example', 0);
    waits.push(guard.wait(here, 'other', 0));
  });
  expect(waits.slice(0, 8)).toEqual([0, 0, 0, 0, 0, 2000, 4000, 8000]);
  expect(Math.max(...waits)).toBe(15 * MINUTE);
  expect(guard.wait(here, 'ana@x.example', 15 * MINUTE)).toBe(0);
});

it('nobody keeps an owner out: others’ guesses hold up neither a place that is known, nor one that has failed at nothing', () => {
  const guard = new SignInGuard();
  guard.succeeded('203.0.113.9', 'ana@x.example', 0);
  // Guesses from hundreds of addresses, some of them from the owner's own office.
  times(400, (number) => guard.failed(`198.51.100.${number % 250}`, 'ana@X.example', 1000));
  times(40, () => guard.failed('203.0.113.9', `other${1}@x.example`, 1000));
  expect(guard.wait('203.0.113.9', 'ana@x.example', 1000)).toBe(0);
  expect(guard.wait('192.0.2.77', 'ana@x.example', 1000)).toBe(0);
  // Who has guessed wrong once has no second try while the account is under attack.
  guard.failed('192.0.2.77', 'ana@x.example', 1000);
  expect(guard.wait('192.0.2.77', 'ana@x.example', 1000)).toBe(15 * MINUTE);
  // What the owner types wrong at home counts for itself.
  times(7, () => guard.failed('203.0.113.9', 'ana@x.example', 2000));
  expect(guard.wait('203.0.113.9', 'ana@x.example', 2000)).toBe(4000);
  expect(guard.wait('203.0.113.9', 'other@x.example', 2000)).toBeGreaterThan(0);
});

it('a network that guesses from many addresses is slowed down as one', () => {
  const guard = new SignInGuard();
  times(60, (number) => guard.failed(`198.51.100.${number}`, `u${number}`, 0));
  expect(guard.wait('198.51.100.200', 'fresh', 0)).toBeGreaterThan(1000);
  expect(guard.wait('198.51.101.200', 'fresh', 0)).toBe(0);
  times(60, (number) => guard.failed(`2001:db8:5:${number}::1`, `u${number}`, 0));
  expect(guard.wait('2001:db8:5:ffff::1', 'fresh', 0)).toBeGreaterThan(1000);
});

it('a good sign-in, or an hour, ends it; an account of one’s own clears no guesses at others', () => {
  const guard = new SignInGuard();
  times(8, () => guard.failed(here, 'a', 0));
  guard.succeeded(here, 'a', 0);
  expect(guard.wait(here, 'a', 0)).toBe(0);
  times(8, () => guard.failed('192.0.2.2', 'victim', 0));
  guard.succeeded('192.0.2.2', 'mine', 0);
  expect(guard.wait('192.0.2.2', 'victim', 0)).toBe(8000);
  guard.failed('192.0.2.2', 'victim', 61 * MINUTE);
  expect(guard.wait('192.0.2.2', 'victim', 61 * MINUTE)).toBe(0);
});

it('a restart forgets neither lockouts nor known places, and no step of the clock makes a wait longer', () => {
  const guard = new SignInGuard();
  times(12, () => guard.failed(here, 'a', 1_000_000));
  guard.succeeded('203.0.113.9', 'b', 1_000_000);
  const { records, places } = guard.unsaved();
  const kept = records.flatMap((one) => (one.record ? [one.record] : []));
  const later = new SignInGuard();
  later.restore(kept, places, 1_001_000);
  expect(later.wait(here, 'a', 1_001_000)).toBe(guard.wait(here, 'a', 1_001_000));
  times(400, (number) => later.failed(`198.51.100.${number % 250}`, 'b', 1_001_000));
  expect(later.wait('203.0.113.9', 'b', 1_001_000)).toBe(0);
  // The machine was started with its clock hours behind.
  const behind = new SignInGuard();
  behind.restore(kept, places, 0);
  expect(behind.wait(here, 'a', 0)).toBe(15 * MINUTE);
});

it('many addresses do not fill the memory', () => {
  const guard = new SignInGuard();
  times(30_000, (number) => guard.failed(`2001:db8:0:${number.toString(16)}::1`, `u${number}`, 0));
  times(8, () => guard.failed(here, 'a', 0));
  expect(guard.wait(here, 'a', 0)).toBeGreaterThan(0);
  expect(guard.size).toBeLessThanOrEqual(20_000);
});

it('all addresses of an IPv6 network of 64 bits are one; who must wait is shown, and can be let in', () => {
  const guard = new SignInGuard();
  times(8, (number) => guard.failed(`2001:db8:7:7:${number}::1`, `guess${number}`, 0));
  expect(guard.wait('2001:DB8:7:7:ffff::2', 'other', 0)).toBe(8000);
  expect(guard.wait('2001:db8:7:8::1', 'other', 0)).toBe(0);
  times(7, () => guard.failed('::ffff:192.0.2.1', 'Ana', 0));
  const told = () => guard.held(1000).map(({ of, name, failures }) => [of, name, failures]);
  expect(told()).toEqual([
    ['address', '2001:db8:7:7::/64', 8],
    ['pair', 'ana from 192.0.2.1', 7],
    ['address', '192.0.2.1', 7],
    ['account', 'ana', 7],
  ]);
  guard.lift('ANA');
  guard.lift('2001:db8:7:7::9');
  expect(told()).toEqual([['address', '192.0.2.1', 7]]);
  guard.failed(here, 'x', 1000);
  expect(guard.held(9000)).toEqual([]);
});

it('passwords are kept salted and compared whole; ids sort by time', async () => {
  const [one, other] = await Promise.all([hashPassword('a calm harbour'), hashPassword('a calm harbour')]);
  expect(one).not.toBe(other);
  expect(one).toMatch(/^scrypt\$32768\$8\$1\$/);
  expect(await passwordMatches('a calm harbour', one)).toBe(true);
  expect(await passwordMatches('a calm harboux', one)).toBe(false);
  expect(await passwordMatches('', null)).toBe(false);
  const ids = [1_790_000_000_000, 1_790_000_005_000, 1_790_009_000_000].map(newJourneyId);
  expect([...ids].sort()).toEqual(ids);
  expect(new Set(Array.from({ length: 200 }, () => newJourneyId(1_790_000_000_000))).size).toBe(200);
});
