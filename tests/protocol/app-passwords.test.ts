import { once } from 'node:events';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { SignInTrouble } from '../../src/api/access-schemas.ts';
import type { JournalEntry } from '../../src/api/journey-schemas.ts';
import type { AppPassword, MailboxContents, MailboxResult } from '../../src/api/mailbox-schemas.ts';
import { signsIn } from '../support/asking.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'leo']);
});
afterAll(() => house.close());

const PATH = '/mailboxes/ana@shop.example/app-passwords';
const list = (): Promise<AppPassword[]> => house.api.list<AppPassword>(PATH);
const make = async (name: string): Promise<string> => (await house.api.call<{ password: string }>('POST', PATH, { name })).body.password;

it('a device has a password of its own: used last when, from where, by what; revoked, what it has open ends', async () => {
  const password = await make('Ana’s phone');
  expect(password).toMatch(/^[a-z0-9]{4}(-[a-z0-9]{4}){5}$/);
  expect(await list()).toEqual([{ name: 'Ana’s phone', createdAt: expect.any(Number), usedAt: null, usedFrom: null, program: null }]);
  const phone = await openProgram(house.ports.imaps, 'ana@shop.example', { password });
  await expect
    .poll(async () => (await list())[0])
    .toMatchObject({ usedAt: expect.any(Number), usedFrom: '127.0.0.1', program: 'Tide Mail 4' });
  const contents = await house.api.call<MailboxContents>('GET', '/mailboxes/ana@shop.example/contents');
  expect(contents.body.sessions).toMatchObject([{ service: 'IMAP', client: '127.0.0.1', program: 'Tide Mail 4' }]);
  expect(await signsIn(house, password)).toEqual([true, true]);
  expect(await signsIn(house, PASSWORD)).toEqual([true, true]);
  // It opens one mailbox, and no other.
  expect(await signsIn(house, password, 'leo@shop.example')).toEqual([false, false]);
  const other = await openProgram(house.ports.imaps, 'ana@shop.example');
  const ended = once(phone, 'close');
  expect((await house.api.call('DELETE', `${PATH}/${encodeURIComponent('Ana’s phone')}`)).status).toBe(200);
  await ended;
  expect(await signsIn(house, password)).toEqual([false, false]);
  expect((await other.list()).length).toBe(6);
  await other.logout();
  expect(await list()).toEqual([]);
  const journal = (await house.api.call<JournalEntry[]>('GET', '/journal?domain=shop.example')).body;
  const said = JSON.stringify(journal);
  expect(said).toContain('ana@shop.example has a password for “Ana’s phone”');
  expect(said).toContain('ana@shop.example: the password for “Ana’s phone” is revoked');
  expect(said + house.log.join('')).not.toContain(password);
});

it('the mailbox’s own password may be kept out altogether, and who types it is told why to the administrator', async () => {
  const password = await make('tablet');
  await house.api.call('PATCH', '/mailboxes/ana@shop.example', { appPasswordsOnly: true });
  expect(await signsIn(house, PASSWORD)).toEqual([false, false]);
  expect(await signsIn(house, password)).toEqual([true, true]);
  await signsIn(house, PASSWORD);
  const troubles = await house.api.list<SignInTrouble>('/sign-in-troubles');
  expect(troubles.find((one) => one.kind === 'main-password')).toMatchObject({
    mailbox: 'ana@shop.example',
    remedy: 'Create one for the device: tenedor app-password add ana@shop.example NAME',
  });
  await house.api.call('PATCH', '/mailboxes/ana@shop.example', { appPasswordsOnly: false });
  expect(await signsIn(house, PASSWORD)).toEqual([true, true]);
});

it('a new password says which devices still sign in, and ends them where that is asked for', async () => {
  const change = async (body: object) => (await house.api.call<MailboxResult>('PATCH', '/mailboxes/leo@shop.example', body)).body;
  const path = '/mailboxes/leo@shop.example/app-passwords';
  for (const name of ['phone', 'tablet']) await house.api.call('POST', path, { name });
  const { password } = (await house.api.call<{ password: string }>('POST', path, { name: 'watch' })).body;
  expect(await change({ password: null })).toMatchObject({ appPasswords: 3 });
  const watch = await openProgram(house.ports.imaps, 'leo@shop.example', { password });
  const ended = once(watch, 'close');
  expect(await change({ password: PASSWORD, revokeAppPasswords: true })).toMatchObject({ password: null, appPasswords: 0 });
  await ended;
  expect(await signsIn(house, password, 'leo@shop.example')).toEqual([false, false]);
  expect(await signsIn(house, PASSWORD, 'leo@shop.example')).toEqual([true, true]);
  expect(JSON.stringify((await house.api.call('GET', '/journal?domain=shop.example')).body)).toContain(
    '(new password); 3 app passwords revoked',
  );
});

it('what can’t be is refused: no name, the same twice, too many, of nobody', async () => {
  expect(await house.api.call('POST', PATH, { name: '  ' })).toMatchObject({ status: 422, body: { field: 'name' } });
  expect(await house.api.call('POST', PATH, { name: 'x'.repeat(61) })).toMatchObject({ status: 422 });
  expect(await house.api.call('POST', PATH, { name: 'tablet' })).toMatchObject({ status: 409 });
  expect(await house.api.call('DELETE', `${PATH}/nothing`)).toMatchObject({ status: 404 });
  expect(await house.api.call('POST', '/mailboxes/nobody@shop.example/app-passwords', { name: 'x' })).toMatchObject({ status: 404 });
  for (let at = (await list()).length; at < 50; at += 1) await make(`device ${at}`);
  expect((await house.api.call('POST', PATH, { name: 'one more' })).status).toBe(429);
  // A removed mailbox takes them along; one that is made anew under its name has none.
  await house.api.call('DELETE', '/mailboxes/ana@shop.example');
  await house.provide('shop.example', ['ana']);
  expect(await list()).toEqual([]);
});
