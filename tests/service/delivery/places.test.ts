import { expect, it } from 'vitest';
import { Places } from '../../../src/service/delivery/places.ts';

/** As many conversations for a domain as may begin now. */
function fill(places: Places, domain: string): number {
  let begun = 0;
  for (; places.mayBegin(domain, 0); begun += 1) places.begin(domain);
  return begun;
}

it('a domain whose server takes its mail has more conversations with each message, as long as half of all places are free', () => {
  const places = new Places();
  expect(fill(places, 'big.example')).toBe(8);
  for (const more of [1, 1, 1]) {
    places.attemptEnded('big.example', 'good', 0);
    expect(fill(places, 'big.example')).toBe(more);
  }
  for (let taken = 0; taken < 30; taken += 1) places.attemptEnded('big.example', 'good', 0);
  expect(fill(places, 'big.example')).toBe(9); // twenty in all
  for (let taken = 0; taken < 30; taken += 1) for (const one of ['wide.example', 'late.example']) places.attemptEnded(one, 'good', 0);
  expect(fill(places, 'wide.example')).toBe(20);
  // Forty are under way: the next may have ten more, and then eight is what each may have.
  expect(fill(places, 'late.example')).toBe(10);
  const begun = Array.from({ length: 7 }, (_none, at) => fill(places, `small${at}.example`));
  expect(begun).toEqual([8, 8, 8, 8, 8, 8, 2]);
});

it('what was too much for a server is not tried again at once', () => {
  const places = new Places();
  for (let taken = 0; taken < 4; taken += 1) places.attemptEnded('big.example', 'good', 0);
  expect(fill(places, 'big.example')).toBe(12);
  places.attemptEnded('big.example', 'away', 0);
  expect(places.restsUntil('big.example', 0)).toBe(5000);
  for (let ended = 0; ended < 12; ended += 1) places.end('big.example', false);
  for (let taken = 0; taken < 30; taken += 1) places.attemptEnded('big.example', 'good', 6000);
  expect(fill(places, 'big.example')).toBe(11);
});
