import { afterEach, beforeEach, expect, it } from 'vitest';
import type { LedgerView, Limits } from '../../src/api/mail-schemas.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeEach(async () => {
  house = await openHouse();
  // Nothing ends meanwhile: the name servers of the outside are silent.
  house.dns.silent.add('out.example');
  await house.provide('shop.example', ['ana']);
});
afterEach(() => house.close());

const setLimit = (limits: { hour: number | null; day: number | null }) =>
  house.api.call('PUT', '/limits/shop.example', {
    limits: Object.entries(limits).map(([period, amount]) => ({ period, quantity: 'sends', amount })),
  });
const limit = async (period: 'hour' | 'day') =>
  (await house.api.call<Limits>('GET', '/limits/shop.example')).body.limits.find((one) => one.period === period);
const ledger = async (): Promise<LedgerView> => (await house.api.call<LedgerView>('GET', '/ledger/shop.example')).body;

async function signedIn(): Promise<Talk> {
  const talk = await Talk.to(house.ports.submissions, { tls: true });
  await talk.say(null);
  await talk.say('EHLO x.example');
  expect(await talk.say(`AUTH PLAIN ${Buffer.from(`\0ana@shop.example\0${PASSWORD}`).toString('base64')}`)).toMatch(/^235/);
  return talk;
}

async function send(talk: Talk, recipients: string[]): Promise<{ taken: number; refused: string[]; final: string }> {
  await talk.say('MAIL FROM:<ana@shop.example>');
  const replies: string[] = [];
  for (const recipient of recipients) replies.push(await talk.say(`RCPT TO:<${recipient}>`));
  const taken = replies.filter((one) => one.startsWith('250')).length;
  const refused = replies.filter((one) => !one.startsWith('250'));
  if (taken === 0) {
    await talk.say('RSET');
    return { taken, refused, final: '' };
  }
  await talk.say('DATA');
  return { taken, refused, final: await talk.say('From: ana@shop.example\r\nSubject: x\r\n\r\nx\r\n.') };
}

it('fifty connections at once are accepted for exactly the limit, and the ledger says the same', async () => {
  await setLimit({ hour: 137, day: 1000 });
  const talks = await Promise.all(Array.from({ length: 50 }, signedIn));
  const results = await Promise.all(
    talks.map(async (talk, number) => {
      const mine = [];
      for (let round = 0; round < 3; round += 1)
        mine.push(
          await send(
            talk,
            [1, 2].map((one) => `r${number}-${round}-${one}@out.example`),
          ),
        );
      return mine;
    }),
  );
  const all = results.flat();
  expect(all.reduce((sum, one) => sum + one.taken, 0)).toBe(137);
  expect(all.filter((one) => one.taken > 0).every((one) => one.final.startsWith('250'))).toBe(true);
  const refusals = all.flatMap((one) => one.refused);
  expect(refusals).toHaveLength(300 - 137);
  for (const one of refusals) expect(one).toMatch(/^452 4\.7\.28 shop\.example has used its limit of 137 sends per hour; /);
  expect(await ledger()).toMatchObject({ total: { sends: 137 } });
  expect([await limit('hour'), await limit('day')]).toMatchObject([{ used: 137, reserved: 0 }, { used: 137 }]);
  expect(house.service.context.db.one('SELECT count(*) AS n FROM recipient WHERE domain = ?', 'out.example')).toEqual({ n: 137 });
  for (const talk of talks) talk.end();
});

it('room that open sessions hold is not given twice, and comes back when they let go', async () => {
  await setLimit({ hour: 3, day: null });
  const [holder, other] = [await signedIn(), await signedIn()];
  await holder.say('MAIL FROM:<ana@shop.example>');
  for (const name of ['a', 'b', 'b', 'c']) expect(await holder.say(`RCPT TO:<${name}@out.example>`)).toMatch(/^250/);
  expect((await send(other, ['d@out.example'])).refused[0]).toContain('reserved by open connections');
  await holder.say('RSET');
  expect((await send(other, ['d@out.example', 'li@shop.example'])).taken).toBe(1);
  await holder.say('MAIL FROM:<ana@shop.example>');
  for (const name of ['e', 'f']) expect(await holder.say(`RCPT TO:<${name}@out.example>`)).toMatch(/^250/);
  expect(await limit('hour')).toMatchObject({ reserved: 2, used: 1 });
  // Some is used, and the rest is promised: that is no reason to raise the limit.
  expect((await send(other, ['d@out.example'])).refused[0]).toContain('reserved by open connections');
  const released = new Promise<void>((resolve) => {
    const { limits } = house.service.context;
    const release = limits.release.bind(limits);
    limits.release = (reservation) => {
      release(reservation);
      resolve();
    };
  });
  holder.end();
  await released;
  expect((await limit('hour'))?.reserved).toBe(0);
  other.end();
});

it('local recipients cost nothing; a limit of 0 and a lifted limit apply to the next recipient', async () => {
  await setLimit({ hour: 0, day: 0 });
  const talk = await signedIn();
  expect(await send(talk, ['ana@shop.example'])).toMatchObject({ taken: 1 });
  expect((await send(talk, ['a@out.example'])).refused[0]).toMatch(/limit of 0 sends per (hour|day); the limit must be raised first/);
  await setLimit({ hour: null, day: 2 });
  expect(await send(talk, ['a@out.example', 'b@out.example', 'c@out.example'])).toMatchObject({ taken: 2 });
  expect((await limit('day'))?.roomAt).toBeGreaterThan(Date.now() + 23 * 3600_000);
  talk.end();
});
