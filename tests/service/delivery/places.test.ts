import { expect, it } from 'vitest';
import type { RemoteHost } from '../../../src/service/base/ports.ts';
import { type Place, Places } from '../../../src/service/delivery/places.ts';

/** As many conversations for a domain as may begin now. */
function fill(places: Places, domain: string, isAgain = false): Place[] {
  const begun: Place[] = [];
  while (places.mayBegin(domain, 0, isAgain)) begun.push(places.begin(domain, 0, isAgain));
  return begun;
}
const good = (places: Places, domain: string, times = 1, now = 0): void => {
  for (let taken = 0; taken < times; taken += 1) places.attemptEnded(domain, 'good', true, now);
};
const host = (address: string): RemoteHost => ({
  name: 'mx.example',
  address,
  port: 25,
  tls: 'offered',
  verify: false,
  credentials: null,
  sourceIpv4: null,
  sourceIpv6: null,
});

it('a domain whose server takes its mail has more conversations with each message, as long as half of all places are free', () => {
  const places = new Places();
  expect(fill(places, 'big.example')).toHaveLength(2);
  good(places, 'big.example');
  expect(fill(places, 'big.example')).toHaveLength(7);
  for (const more of [1, 1, 1]) {
    good(places, 'big.example');
    expect(fill(places, 'big.example')).toHaveLength(more);
  }
  good(places, 'big.example', 30);
  expect(fill(places, 'big.example')).toHaveLength(8); // twenty in all
  for (const one of ['wide.example', 'late.example']) good(places, one, 30);
  expect(fill(places, 'wide.example')).toHaveLength(20);
  // Forty are under way: the next may have ten more, and then eight is what each may have.
  expect(fill(places, 'late.example')).toHaveLength(10);
  for (let at = 0; at < 6; at += 1) {
    good(places, `small${at}.example`);
    expect(fill(places, `small${at}.example`)).toHaveLength(8);
  }
  good(places, 'last.example');
  expect(fill(places, 'last.example')).toHaveLength(2);
});

it('what was too much for a server is not tried again at once', () => {
  const places = new Places();
  good(places, 'big.example', 4);
  const begun = fill(places, 'big.example');
  expect(begun).toHaveLength(12);
  places.attemptEnded('big.example', 'away', false, 0);
  expect(places.restsUntil('big.example', 0)).toBe(5000);
  for (const one of begun) places.end(one);
  good(places, 'big.example', 30, 6000);
  expect(fill(places, 'big.example')).toHaveLength(11);
});

it('servers that have taken nothing lately leave places to those that do, and old mail leaves places to new', () => {
  const places = new Places();
  let again = 0;
  for (let at = 0; at < 100; at += 1) again += fill(places, `dead${at}.example`, true).length;
  expect(again).toBe(40);
  let fresh = 0;
  for (let at = 0; at < 100; at += 1) fresh += fill(places, `new${at}.example`).length;
  expect(fresh).toBe(20);
  good(places, 'healthy.example');
  expect(fill(places, 'healthy.example')).toHaveLength(8);
});

it('conversations that hang share a few places; the oldest whose text has not gone is given up for a new one', () => {
  const places = new Places();
  const given: number[] = [];
  const hang = (at: number): Place => {
    const place = places.begin(`hangs${at}.example`, 0);
    places.takeOf(place, host(`203.0.113.${at}`), () => 0);
    place.watch.current = { textSent: at === 0, giveUp: () => given.push(at) };
    places.hang(place);
    return place;
  };
  const first = hang(0);
  // No more is begun with a domain, or a server, that lets us hang.
  expect(places.mayBegin('hangs0.example', 0)).toBe(false);
  expect(places.restsUntil('hangs0.example', 0)).toBe(5000);
  expect(places.takeOf(places.begin('neighbour.example', 0), host('203.0.113.0'), () => 0)).toBeNull();
  for (let at = 1; at < 60; at += 1) hang(at);
  expect(given).toEqual([]);
  hang(60);
  expect(given).toEqual([1]);
  places.end(first);
  expect(places.mayBegin('hangs0.example', 0)).toBe(true);
});
