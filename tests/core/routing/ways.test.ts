import { describe, expect, it } from 'vitest';
import { Pace } from '../../../src/core/retry/pace.ts';
import { GIVE_UP_AFTER, nextAttempt } from '../../../src/core/retry/schedule.ts';
import { findMailHosts } from '../../../src/core/routing/mail-hosts.ts';
import { fitsPattern, outletsFor } from '../../../src/core/routing/outlets.ts';
import { readReturnAddress, returnAddress } from '../../../src/core/routing/return-address.ts';
import { at, type Entry, lookupIn } from '../../support/lookup.ts';

/** Where mail goes, when it goes again, and how it finds its way back. */

describe('hosts of a domain', () => {
  const own = { name: 'mail.host.example', addresses: ['192.0.2.25'] };
  const ZONE: Entry[] = [
    at('a.out.example', 'A', '203.0.113.1'),
    at('b.out.example', 'A', '203.0.113.2'),
    at('b.out.example', 'AAAA', '2001:db8::2'),
    at('mail.host.example', 'A', '192.0.2.25'),
  ];
  const find = async (records: [string, string][], silent: string[] = []) => {
    const found = await findMailHosts(
      'out.example',
      own,
      lookupIn([...ZONE, ...records.map(([type, value]) => at('out.example', type as 'MX', value))], silent),
      (hosts) => hosts.toReversed(),
    );
    return found.kind === 'hosts'
      ? found.hosts.map(({ name, address }) => `${name} ${address}`)
      : [found.kind, 'status' in found ? found.status : found.reason];
  };
  it('are tried in their order, IPv6 first, those of one number as they are shuffled', async () => {
    expect(
      await find([
        ['MX', '20 a.out.example'],
        ['MX', '10 b.out.example'],
      ]),
    ).toEqual(['b.out.example 2001:db8::2', 'b.out.example 203.0.113.2', 'a.out.example 203.0.113.1']);
    expect(
      await find([
        ['MX', '10 a.out.example'],
        ['MX', '10 b.out.example'],
      ]),
    ).toEqual(['b.out.example 2001:db8::2', 'b.out.example 203.0.113.2', 'a.out.example 203.0.113.1']);
    expect(await find([['A', '203.0.113.80']])).toEqual(['out.example 203.0.113.80']);
  });
  it('that are as bad as ours or worse are left out', async () => {
    expect(
      await find([
        ['MX', '10 a.out.example'],
        ['MX', '20 mail.host.example'],
        ['MX', '20 b.out.example'],
        ['MX', '30 b.out.example'],
      ]),
    ).toEqual(['a.out.example 203.0.113.1']);
    expect(
      await find([
        ['MX', '10 mail.host.example'],
        ['MX', '20 a.out.example'],
      ]),
    ).toEqual(['never', '5.4.6']);
  });
  it('can be none: for now, or for ever', async () => {
    expect(await find([['MX', '0 ']])).toEqual(['never', '5.1.10']);
    expect(
      await find([
        ['MX', '0 '],
        ['MX', '10 a.out.example'],
      ]),
    ).toEqual(['a.out.example 203.0.113.1']);
    expect(await find([['MX', '10 gone.example']])).toEqual(['never', '5.4.4']);
    expect(await find([['TXT', 'hello']])).toEqual(['never', '5.4.4']);
    expect((await findMailHosts('nowhere.example', own, lookupIn([]), (hosts) => hosts)).kind).toBe('never');
    expect(await find([['MX', '10 a.out.example']], ['out.example'])).toEqual([
      'later',
      'no answer for the MX records of out.example: no answer in time',
    ]);
    expect(await find([['MX', '10 a.out.example']], ['a.out.example'])).toEqual([
      'later',
      'no answer for the address of a.out.example: no answer in time',
    ]);
    expect(
      await find(
        [
          ['MX', '10 gone.example'],
          ['MX', '20 a.out.example'],
        ],
        ['gone.example'],
      ),
    ).toEqual(['a.out.example 203.0.113.1']);
    // An address of ours under another name would be a circle.
    expect(await find([['A', '192.0.2.25']])).toEqual(['never', '5.4.4']);
  });
  it('are ten at most', async () => {
    const many = Array.from({ length: 12 }, (_none, number): Entry => at(`m${number}.out.example`, 'A', `203.0.113.${number + 10}`));
    const lookup = lookupIn([...many, ...many.map(([name], number) => at('out.example', 'MX', `${number} ${name}`))]);
    const found = await findMailHosts('out.example', own, lookup, (hosts) => hosts);
    expect(found.kind === 'hosts' && found.hosts.map((one) => one.name)).toEqual(many.slice(0, 10).map(([name]) => name));
  });
  it('that have no address keep none of the others from being tried; of too many of them nothing is known for good', async () => {
    const empty = (count: number): [string, string][] => Array.from({ length: count }, (_none, at) => ['MX', `${at} gone${at}.example`]);
    expect(await find([...empty(40), ['MX', '90 a.out.example']])).toEqual(['a.out.example 203.0.113.1']);
    expect(await find(empty(50))).toEqual(['never', '5.4.4']);
    expect(await find([...empty(60), ['MX', '90 a.out.example']])).toEqual([
      'later',
      'none of the first 50 mail hosts of out.example has an address',
    ]);
  });
});

describe('outlets', () => {
  const outlet = (name: string, position: number, changes: object = {}) => ({
    name,
    position,
    isOn: true,
    senders: { isAny: true, customers: [] as string[], domains: [] as string[] },
    destinations: [] as string[],
    ...changes,
  });
  const names = (outlets: ReturnType<typeof outlet>[], changes: object = {}): string[] =>
    outletsFor(outlets, { customer: 'Shop', senderDomain: 'shop.example', destination: 'out.example', ...changes }).map((one) => one.name);
  it('fit by a name, or by what lies below it', () => {
    for (const [name, pattern, fits] of [
      ['out.example', 'out.example', true],
      ['x.out.example', 'out.example', false],
      ['x.out.example', '*.out.example', true],
      ['y.x.out.example', '*.out.example', true],
      ['out.example', '*.out.example', false],
      ['notout.example', '*.out.example', false],
    ] as const)
      expect(fitsPattern(name, pattern), `${name} ${pattern}`).toBe(fits);
  });
  it('are tried in their order, those that are on and for this mail', () => {
    const all = [
      outlet('second', 2),
      outlet('first', 1),
      outlet('off', 0, { isOn: false }),
      outlet('customer', 3, { senders: { isAny: false, customers: ['Shop'], domains: [] } }),
      outlet('domain', 4, { senders: { isAny: false, customers: [], domains: ['shop.example'] } }),
      outlet('others', 5, { senders: { isAny: false, customers: ['Other'], domains: ['other.example'] } }),
      outlet('there', 6, { destinations: ['*.far.example', 'out.example'] }),
      outlet('elsewhere', 7, { destinations: ['far.example'] }),
    ];
    expect(names(all)).toEqual(['first', 'second', 'customer', 'domain', 'there']);
    expect(names(all, { customer: null, senderDomain: null })).toEqual(['first', 'second', 'there']);
    expect(names(all, { destination: 'far.example', customer: 'Other', senderDomain: 'x.example' })).toEqual([
      'first',
      'second',
      'others',
      'elsewhere',
    ]);
  });
});

it('a return address leads back to its journey, for its domain and by our key alone', () => {
  const key = Buffer.alloc(32, 7);
  const address = returnAddress('cazp9h94zytt', 'shop.example', key);
  expect(address).toMatch(/^back\.cazp9h94zytt\.[a-z2-7]{16}@shop\.example$/);
  const local = address.slice(0, address.indexOf('@'));
  expect(readReturnAddress(local, 'shop.example', key)).toBe('cazp9h94zytt');
  expect(readReturnAddress(local, 'other.example', key)).toBeNull();
  expect(readReturnAddress(local, 'shop.example', Buffer.alloc(32, 8))).toBeNull();
  for (let letter = local.length - 16; letter < local.length; letter += 1) {
    const other = local[letter] === 'a' ? 'b' : 'a';
    expect(readReturnAddress(local.slice(0, letter) + other + local.slice(letter + 1), 'shop.example', key)).toBeNull();
  }
  for (const wrong of ['', 'back', `x${local}`, `${local}x`, local.replace('back.', 'back.x'), local.toUpperCase()])
    expect(readReturnAddress(wrong, 'shop.example', key), wrong).toBeNull();
  // Known by computing it: HMAC-SHA256 of “return ID DOMAIN”, its first 80 bits in base32.
  expect(returnAddress('j', 'd.example', Buffer.from('k'))).not.toBe(returnAddress('j', 'e.example', Buffer.from('k')));
  expect(new Set(Array.from({ length: 50 }, (_none, number) => returnAddress(`j${number}`, 'd.example', key))).size).toBe(50);
});

describe('trying again', () => {
  const MINUTE = 60_000;
  const wait = (attempts: number, draw = 0.5, steady = false): number => {
    const next = nextAttempt(attempts, 0, 0, draw, steady);
    return next.kind === 'again' ? next.at / MINUTE : -1;
  };
  it('comes soon first, then rarer, a tenth more or less', () => {
    expect([0, 1, 2, 3, 4, 5, 6, 7, 8, 50].map((attempts) => wait(attempts))).toEqual([1, 1, 5, 15, 30, 60, 120, 240, 240, 240]);
    expect([wait(2, 0), wait(2, 1)]).toEqual([4.5, 5.5]);
    expect([1, 2, 3, 9].map((attempts) => wait(attempts, 0.5, true))).toEqual([1, 2, 2, 2]);
  });
  it('ends after five days, and the last try is at their end', () => {
    expect(nextAttempt(9, 0, GIVE_UP_AFTER, 0.5)).toEqual({ kind: 'give-up' });
    expect(nextAttempt(9, 0, GIVE_UP_AFTER - 1, 0.5)).toEqual({ kind: 'again', at: GIVE_UP_AFTER });
  });
});

describe('how hard one destination is pressed', () => {
  it('less when it is busy, not at all for a while when it is away, and soon as before', () => {
    const pace = new Pace(8, 4);
    expect([pace.mayBegin(3, 0), pace.mayBegin(4, 0), pace.isUsual]).toEqual([true, false, true]);
    pace.attemptEnded('good', 0);
    expect([pace.mayBegin(4, 0), pace.mayBegin(5, 0)]).toEqual([true, false]);
    pace.attemptEnded('busy', 0);
    expect([pace.mayBegin(1, 0), pace.mayBegin(2, 0), pace.isUsual, pace.restsUntil(0)]).toEqual([true, false, false, 0]);
    pace.attemptEnded('away', 1000);
    expect([pace.restsUntil(1000), pace.mayBegin(0, 5999), pace.mayBegin(0, 6000), pace.mayBegin(1, 6000)]).toEqual([
      6000,
      false,
      true,
      false,
    ]);
    expect(pace.restsUntil(6000)).toBe(0);
    // Each further silence doubles the rest, up to ten minutes.
    const rests = Array.from({ length: 9 }, () => {
      pace.attemptEnded('away', 0);
      return pace.restsUntil(0) / 1000;
    });
    expect(rests).toEqual([10, 20, 40, 80, 160, 320, 600, 600, 600]);
    for (let more = 0; more < 30; more += 1) pace.attemptEnded('away', 0);
    expect(pace.restsUntil(0)).toBe(600_000);
    pace.wake();
    expect([pace.restsUntil(0), pace.mayBegin(0, 0), pace.isUsual]).toEqual([0, true, false]);
    // For ten minutes it is not pressed again as it was when it made trouble.
    const taken = (now: number) => {
      for (let more = 0; more < 20; more += 1) pace.attemptEnded('good', now);
      return [pace.mayBegin(3, now), pace.mayBegin(4, now), pace.mayBegin(7, now), pace.mayBegin(8, now), pace.isUsual];
    };
    expect(taken(599_999)).toEqual([true, false, false, false, true]);
    expect(taken(600_000)).toEqual([true, true, true, false, true]);
    pace.attemptEnded('away', 600_000);
    expect(pace.restsUntil(600_000)).toBe(605_000);
    expect(taken(606_000)).toEqual([true, true, false, false, true]);
    expect([pace.mayBegin(6, 606_000), pace.mayBegin(7, 606_000)]).toEqual([true, false]);
  });
  it('begins with as many as are allowed, where nothing else is said', () => {
    const pace = new Pace(3);
    expect([pace.mayBegin(2, 0), pace.mayBegin(3, 0)]).toEqual([true, false]);
  });
});

it('a stranger’s MX that leads to this machine, under whatever name, is no host', async () => {
  const own = { name: 'mail.host.example', addresses: ['192.0.2.25'] };
  for (const [type, address] of [
    ['A', '127.0.0.1'],
    ['A', '0.0.0.0'],
    ['A', '169.254.1.1'],
    ['AAAA', '::1'],
    ['AAAA', '::ffff:127.0.0.1'],
  ] as const) {
    const zone: Entry[] = [at('evil.example', 'MX', '10 inside.evil.example'), at('inside.evil.example', type, address)];
    expect(await findMailHosts('evil.example', own, lookupIn(zone), (hosts) => hosts), address).toMatchObject({
      kind: 'never',
      status: '5.4.4',
    });
    expect(
      (await findMailHosts('evil.example', own, lookupIn([...zone, at('inside.evil.example', 'A', '203.0.113.5')]), (hosts) => hosts)).kind,
    ).toBe('hosts');
  }
});
