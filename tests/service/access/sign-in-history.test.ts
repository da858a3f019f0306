import { afterAll, beforeAll, expect, it } from 'vitest';
import type { SignIns } from '../../../src/api/access-schemas.ts';
import type { SignInService } from '../../../src/core/vocabulary.ts';
import { SignInHistoryWriter } from '../../../src/service/access/kept-sign-ins.ts';
import { signInMailbox } from '../../../src/service/access/sign-in-mailbox.ts';
import { type House, openHouse, PASSWORD } from '../../support/house.ts';

const DAY = 24 * 3_600_000;
let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'leo']);
});
afterAll(() => house.close());

const from = async (address: string, client: string, password: string, service: SignInService = 'IMAP'): Promise<void> => {
  const { context } = house.service;
  await signInMailbox(context, address, password, { service, clientAddress: client });
};
/** Written down as of that moment. */
const saved = async (at: number): Promise<void> => {
  const { context } = house.service;
  await new SignInHistoryWriter({ ...context, clock: { ...context.clock, now: () => at } }).save();
};
const list = async (query = ''): Promise<SignIns[]> => house.api.list<SignIns>(`/sign-ins${query}`);

it('each sign-in to a mailbox is found again: by mailbox, domain and client, good and wrong, with which password', async () => {
  const { body } = await house.api.call<{ password: string }>('POST', '/mailboxes/ana@shop.example/app-passwords', { name: 'phone' });
  await from('ana@shop.example', '198.51.100.7', PASSWORD);
  await from('Ana@shop.example', '::ffff:198.51.100.7', PASSWORD);
  await from('ana@shop.example', '198.51.100.8', body.password, 'submission');
  await from('ana@shop.example', '203.0.113.66', 'not it', 'POP3');
  await from('leo@shop.example', '198.51.100.7', PASSWORD);
  await from('nobody@shop.example', '203.0.113.66', 'not it');
  await saved(Date.now());
  expect(await list('?search=ana@shop.example&sort=client')).toMatchObject([
    { mailbox: 'ana@shop.example', isGood: true, service: 'IMAP', client: '198.51.100.7', device: null, times: 2 },
    { mailbox: 'ana@shop.example', isGood: true, service: 'submission', client: '198.51.100.8', device: 'phone', times: 1 },
    { mailbox: 'ana@shop.example', isGood: false, service: 'POP3', client: '203.0.113.66', device: null, times: 1 },
  ]);
  expect((await list('?search=198.51.100.7&sort=mailbox')).map((one) => one.mailbox)).toEqual(['ana@shop.example', 'leo@shop.example']);
  expect(await list('?search=SHOP.example')).toHaveLength(4);
  expect((await list('?search=leo')).map((one) => one.mailbox)).toEqual(['leo@shop.example']);
  expect(await list('?search=%25')).toEqual([]);
  expect(await list()).toHaveLength(4);
});

it('two hundred clients a week are told apart, guessers share what is left, and a mailbox that comes anew has none of it', async () => {
  const { signInHistory, db } = house.service.context;
  const id = db.one<{ id: number }>("SELECT id FROM mailbox WHERE local = 'leo'")?.id ?? 0;
  const now = Date.now();
  for (let host = 0; host < 300; host += 1)
    signInHistory.note({ mailboxId: id, service: 'IMAP', client: `2001:db8::${host}`, device: null, isGood: false }, now);
  // Of a mailbox that is gone, nothing is kept.
  signInHistory.note({ mailboxId: id + 1000, service: 'IMAP', client: '192.0.2.1', device: null, isGood: true }, now);
  await saved(now);
  expect((await list('?search=leo@shop.example&sort=times&limit=500')).slice(0, 2)).toMatchObject([
    { client: 'others', times: 100, isGood: false },
    { times: 1 },
  ]);
  expect(await list('?search=leo@shop.example&limit=500')).toHaveLength(202);
  expect(await list('?search=192.0.2.1')).toEqual([]);
  const removed = await house.api.call<{ id: number }>('DELETE', '/mailboxes/leo@shop.example');
  expect(removed.status).toBe(200);
  expect(await list('?search=leo')).toEqual([]);
  await house.api.call('POST', '/mailboxes', { address: 'leo@shop.example', password: PASSWORD });
  expect(await list('?search=leo@shop.example')).toEqual([]);
});

it('they are kept for ninety days', async () => {
  await saved(Date.now() + 89 * DAY);
  expect((await list('?search=ana@shop.example')).length).toBeGreaterThan(0);
  await saved(Date.now() + 91 * DAY);
  expect(await list()).toEqual([]);
});
