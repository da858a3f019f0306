import { afterEach, beforeEach, expect, it } from 'vitest';
import { CertificateUpkeep } from '../../../src/service/certificates/certificate-upkeep.ts';
import type { AuthorityDoor, OrderedCertificate } from '../../../src/service/certificates/doors.ts';
import { CertificateMaker } from '../../../src/standins/certificate-maker.ts';
import { findCertificateName } from '../../../src/store/certificates.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { lookupIn } from '../../support/lookup.ts';

const HOUR = 3_600_000;
const DAY = 24 * HOUR;
const NAMES = ['mail.host.example', 'mail.shop.example', 'autoconfig.shop.example'];

let bare: Bare;
let maker: CertificateMaker;
let orders: string[];
beforeEach(async () => {
  bare = await openBare({ lookup: lookupIn(NAMES.map((name) => [name, 'A', '192.0.2.25'] as const)) });
  maker = await CertificateMaker.make('Test', { days: 90, now: () => bare.clock.wall });
  orders = [];
  Object.assign(bare.context, { hasChallengePort: true });
});
afterEach(() => bare.close());

/** An authority that answers an order as the test says, and proposes to renew at `window`. */
function authority(order: (name: string) => Promise<OrderedCertificate>, window: { from: number; to: number } | null = null): void {
  const door: AuthorityDoor = {
    directory: 'https://authority.example/directory',
    names: async () => [],
    account: async () => ({ url: 'https://authority.example/1', key: 'x' }),
    order: async (_login, name) => {
      orders.push(name);
      return order(name);
    },
    renewal: async () => window,
  };
  Object.assign(bare.context, { authority: door });
}
const give = async (names: string[], life?: { from: number; to: number }): Promise<OrderedCertificate> => {
  const { pem, key } = await maker.give(names, null, life);
  return { chain: pem, key: key ?? '' };
};
/** A day of turns. */
async function aDay(): Promise<number> {
  const upkeep = new CertificateUpkeep(bare.context);
  const before = orders.length;
  for (let passed = 0; passed < DAY; passed += 10 * 60_000) {
    await upkeep.turn();
    bare.pass(10 * 60_000);
  }
  return orders.length - before;
}

it.each<[string, () => Promise<OrderedCertificate>]>([
  ['a certificate for another name', () => give(['other.example'])],
  ['one that has expired', () => give(NAMES, { from: bare.clock.wall - 9 * DAY, to: bare.clock.wall - DAY })],
  ['one for another key', async () => ({ ...(await give(NAMES)), key: (await give(NAMES)).key })],
  ['what is none', async () => ({ chain: 'garbage', key: 'garbage' })],
  ['a fault of its own', async () => Promise.reject(new TypeError('x of undefined'))],
])('an authority that gives %s is asked less and less, and no name keeps another waiting', async (_what, order) => {
  authority(order);
  expect(await aDay()).toBeLessThan(40);
  expect(new Set(orders)).toEqual(new Set(NAMES));
  for (const name of NAMES) {
    const state = findCertificateName(bare.context.db, name);
    expect([name, state?.trouble === null, (state?.nextAt ?? 0) > bare.clock.wall - DAY]).toEqual([name, false, true]);
  }
});

it.each<[string, { from: number; to: number } | null, number]>([
  ['past two thirds of its life', null, 90 * DAY],
  ['that the authority always wants renewed in the past', { from: 0, to: 1 }, 0],
])('a certificate %s is not ordered again and again', async (_what, window, age) => {
  authority((name) => give([name], { from: bare.clock.wall - age, to: bare.clock.wall + 10 * DAY }), window);
  expect(await aDay()).toBeLessThanOrEqual(NAMES.length * 5);
});

it('a good certificate is ordered once', async () => {
  authority((name) => give([name]));
  expect(await aDay()).toBe(NAMES.length);
});
