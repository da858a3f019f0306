import { expect, it } from 'vitest';
import { hashPassword, newJourneyId, passwordMatches } from '../../src/service/secrets.ts';
import { SignInGuard } from '../../src/service/sign-in-guard.ts';

const MINUTE = 60_000;

it('five wrong sign-ins are free; then the wait doubles up to a quarter of an hour, for the address and for the account', () => {
  const guard = new SignInGuard();
  const waits: number[] = [];
  for (let number = 0; number < 18; number += 1) {
    guard.failed('192.0.2.1', 'Ana@x.example', 0);
    waits.push(guard.wait('192.0.2.1', 'other', 0));
  }
  expect(waits.slice(0, 8)).toEqual([0, 0, 0, 0, 0, 2000, 4000, 8000]);
  expect(Math.max(...waits)).toBe(15 * MINUTE);
  expect(guard.wait('192.0.2.9', 'ana@X.example', 0)).toBe(15 * MINUTE);
  expect(guard.wait('192.0.2.9', 'other', 0)).toBe(0);
  expect(guard.wait('192.0.2.1', 'ana@x.example', 15 * MINUTE)).toBe(0);
});

it('a good sign-in, or an hour, ends it', () => {
  const guard = new SignInGuard();
  for (let number = 0; number < 8; number += 1) guard.failed('192.0.2.1', 'a', 0);
  guard.succeeded('192.0.2.1', 'a');
  expect(guard.wait('192.0.2.1', 'a', 0)).toBe(0);
  for (let number = 0; number < 8; number += 1) guard.failed('192.0.2.1', 'a', 0);
  guard.failed('192.0.2.1', 'a', 61 * MINUTE);
  expect(guard.wait('192.0.2.1', 'a', 61 * MINUTE)).toBe(0);
});

it('many addresses do not fill the memory', () => {
  const guard = new SignInGuard();
  for (let number = 0; number < 60_000; number += 1) guard.failed(`2001:db8:0:${number.toString(16)}::1`, `u${number}`, 0);
  for (let number = 0; number < 8; number += 1) guard.failed('192.0.2.1', 'a', 0);
  expect(guard.wait('192.0.2.1', 'a', 0)).toBeGreaterThan(0);
  expect(guard.size).toBeLessThanOrEqual(20_000);
});

it('all addresses of an IPv6 network of 64 bits are one; who must wait is shown, and can be let in', () => {
  const guard = new SignInGuard();
  for (let number = 0; number < 8; number += 1) guard.failed(`2001:db8:7:7:${number}::1`, `guess${number}`, 0);
  expect(guard.wait('2001:DB8:7:7:ffff::2', 'other', 0)).toBe(8000);
  expect(guard.wait('2001:db8:7:8::1', 'other', 0)).toBe(0);
  for (let number = 0; number < 7; number += 1) guard.failed('::ffff:192.0.2.1', 'Ana', 0);
  const told = () => guard.held(1000).map(({ of, name, failures }) => [of, name, failures]);
  expect(told()).toEqual([
    ['address', '2001:db8:7:7::/64', 8],
    ['address', '192.0.2.1', 7],
    ['account', 'ana', 7],
  ]);
  guard.lift('ANA');
  guard.lift('2001:db8:7:7::9');
  expect(told()).toEqual([['address', '192.0.2.1', 7]]);
  guard.failed('192.0.2.1', 'x', 1000);
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
