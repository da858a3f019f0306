import { afterAll, beforeAll, expect, it } from 'vitest';
import type { Lockout, Overview } from '../../src/api/schemas.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('other.example', ['gus']);
});
afterAll(() => house.close());

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
  const lockouts = async () =>
    (await house.api.call<Lockout[]>('GET', '/lockouts')).body.map(({ at, of, name, domain }) => [at, of, name, domain]);
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
