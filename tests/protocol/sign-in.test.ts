import { type ConnectionOptions, connect } from 'node:tls';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { Lockout, SignInTrouble } from '../../src/api/access-schemas.ts';
import type { Overview } from '../../src/api/schemas.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('other.example', ['gus']);
});
afterAll(() => house.close());

it('whoever does not get in is shown with what is wrong, until they get in; guesses at nobody are not', async () => {
  await house.provide('shop.example', ['ana']);
  await house.api.call('POST', '/aliases', { address: 'team@shop.example', targets: ['ana@shop.example'] });
  await house.api.call('POST', '/domains', { name: 'shop-two.example', customer: 'Customer' });
  await house.api.call('PUT', '/domains/shop-two.example/twin', { of: 'shop.example' });
  const plain = (user: string, password: string): string => Buffer.from(`\0${user}\0${password}`).toString('base64');
  const submit = async (user: string, password: string, tls = true): Promise<string> => {
    const talk = await Talk.to(tls ? house.ports.submissions : house.ports.submission, tls ? { tls: true } : {});
    await talk.say(null);
    await talk.say('EHLO client.example');
    const reply = await talk.say(`AUTH PLAIN ${plain(user, password)}`);
    talk.end();
    return reply;
  };
  for (const user of ['Ana', 'team@shop.example', 'ana@shop-two.example', 'nina@shop.example', 'ana@shop.example', 'root', 'x@far.example'])
    expect(await submit(user, 'wrong'), user).toMatch(/^(535|454)/);
  house.service.context.guards.mailboxes.lift('127.0.0.1');
  expect(await submit('ana@shop.example', PASSWORD, false)).toMatch(/^538/);
  expect(await submit('root', 'wrong', false)).toMatch(/^538/);
  const pop = await Talk.to(house.ports.pop3);
  await pop.pop(null);
  expect(await pop.pop('USER ana@shop.example')).toMatch(/^-ERR Begin TLS/);
  pop.end();
  // A program that knows only the TLS of long ago, and one that does not like our certificate.
  const handshake = (options: ConnectionOptions): Promise<string> =>
    new Promise((resolve) => {
      const socket = connect({ host: '127.0.0.1', port: house.ports.pop3s, ...options });
      socket.once('error', (error: NodeJS.ErrnoException) => resolve(error.code ?? ''));
      socket.once('secureConnect', () => resolve('connected'));
      socket.once('close', () => resolve('closed'));
    });
  const old = { minVersion: 'TLSv1', maxVersion: 'TLSv1.1', ciphers: 'ALL:@SECLEVEL=0', rejectUnauthorized: false } as const;
  expect(await handshake(old)).toMatch(/ERR_SSL|ECONNRESET/);
  const troubles = async () =>
    (await house.api.list<SignInTrouble>('/sign-in-troubles')).map((one) => [one.kind, one.service, one.typed, one.mailbox]);
  await expect.poll(troubles).toHaveLength(8);
  expect(new Set((await troubles()).map((one) => one.join(' ')))).toEqual(
    new Set([
      'name-form submission Ana ana@shop.example',
      'alias submission team@shop.example ',
      'twin submission ana@shop-two.example ana@shop.example',
      'no-mailbox submission nina@shop.example ',
      'password submission ana@shop.example ana@shop.example',
      'in-clear submission ana@shop.example ana@shop.example',
      'in-clear POP3 ana@shop.example ana@shop.example',
      'old-tls POP3  ',
    ]),
  );
  const [advice] = await house.api.list<SignInTrouble>('/sign-in-troubles?search=must%20be%20the%20whole');
  expect(advice).toMatchObject({ remedy: 'Type ana@shop.example as the user name.', client: '127.0.0.1', times: 1 });
  expect(await submit('ana@shop.example', PASSWORD)).toMatch(/^235/);
  expect((await troubles()).map(([kind]) => kind)).toEqual([]);
  await submit('nina@shop.example', 'wrong');
  expect(await troubles()).toHaveLength(1);
  await house.api.call('DELETE', '/domains/shop-two.example');
  expect((await house.api.call('DELETE', '/domains/shop.example')).status).toBe(200);
  expect(await troubles()).toEqual([]);
});

it('forty guesses at once: a few are told wrong, the rest to wait; the lockout is shown, journalled, and lifted', async () => {
  const guess = async (password: string): Promise<string> => {
    const talk = await Talk.to(house.ports.submissions, { tls: true });
    await talk.say(null);
    await talk.say('EHLO client.example');
    const reply = await talk.say(`AUTH PLAIN ${Buffer.from(`\0gus@other.example\0${password}`).toString('base64')}`);
    talk.end();
    return reply;
  };
  const replies = await Promise.all(Array.from({ length: 40 }, (_none, number) => guess(`guess number ${number}`)));
  const wrong = replies.filter((one) => one.startsWith('535 5.7.8'));
  expect(wrong.length).toBeGreaterThanOrEqual(5);
  expect(wrong.length).toBeLessThanOrEqual(8);
  expect(replies.filter((one) => /^454 4\.7\.0 (Too many wrong|Too many sign-ins)/.test(one))).toHaveLength(40 - wrong.length);
  // As if some had come later: long enough to be told of.
  const { guards, clock } = house.service.context;
  for (let number = 0; number < 12; number += 1)
    guards.mailboxes.failed('127.0.0.1', 'gus@other.example', clock.now() - 120_000, 'other.example');
  expect(await guess(PASSWORD)).toMatch(/^454 4\.7\.0 Too many wrong sign-ins; try again in \d+ seconds/);
  const lockouts = async () => (await house.api.list<Lockout>('/lockouts')).map(({ at, of, name, domain }) => [at, of, name, domain]);
  expect(await lockouts()).toEqual(
    expect.arrayContaining([
      ['mailboxes', 'address', '127.0.0.1', null],
      ['mailboxes', 'account', 'gus@other.example', 'other.example'],
    ]),
  );
  const { attention } = (await house.api.call<Overview>('GET', '/overview')).body;
  expect(attention).toContainEqual(expect.objectContaining({ kind: 'lockout', domain: 'other.example' }));
  for (const name of ['gus@other.example', '127.0.0.1']) {
    expect((await house.api.call('POST', '/lockouts/lift', { name })).status).toBe(200);
    expect((await house.api.call('POST', '/lockouts/lift', { name })).status).toBe(404);
  }
  expect(await lockouts()).toEqual([]);
  expect(await guess(PASSWORD)).toMatch(/^235/);
});
