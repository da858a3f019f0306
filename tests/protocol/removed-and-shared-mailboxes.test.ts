import { once } from 'node:events';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { BroughtBack, Member, RemovedMailbox } from '../../src/api/mailbox-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { signsIn } from '../support/asking.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'leo']);
});
afterAll(() => house.close());

it('a removed mailbox is gone for everybody at once, and comes back as it was', async () => {
  await house.provide('loft.example', ['ana', 'leo']);
  await house.api.call('POST', '/aliases', { address: 'office@loft.example', targets: ['ana@loft.example'] });
  await house.api.call('POST', '/aliases', { address: 'all@loft.example', targets: ['ana@loft.example', 'leo@loft.example'] });
  const program = await openProgram(house.ports.imaps, 'ana@loft.example');
  await program.append('Archive', 'Subject: kept\r\n\r\nx', ['\\Flagged']);
  const isClosed = new Promise((resolve) => program.once('close', resolve));
  expect((await house.api.call('DELETE', '/mailboxes/ana@loft.example')).status).toBe(200);
  await isClosed;
  expect(await signsIn(house, PASSWORD, 'ana@loft.example')).toEqual([false, false]);
  expect((await house.api.call('GET', '/mailboxes/ana@loft.example')).status).toBe(404);
  expect((await house.api.call('GET', '/aliases/office@loft.example')).status).toBe(404);
  expect((await house.api.call<Domain>('GET', '/domains/loft.example')).body).toMatchObject({ mailboxes: 1, usedMessages: 0 });
  const [kept] = await house.api.list<RemovedMailbox>('/domains/loft.example/removed-mailboxes');
  expect(kept).toMatchObject({ address: 'ana@loft.example', messages: 1 });
  expect((kept?.keptUntil ?? 0) - (kept?.removedAt ?? 0)).toBe(30 * 86_400_000);
  // Its address is free meanwhile, and then it can't come back there.
  await house.api.call('POST', '/mailboxes', { address: 'ana@loft.example', password: 'quiet harbour lantern' });
  const back = () => house.api.call<BroughtBack>('POST', `/removed-mailboxes/${kept?.id}/restore`);
  expect(await back()).toMatchObject({ status: 409, body: { detail: 'ana@loft.example is already a mailbox.' } });
  await house.api.call('DELETE', '/mailboxes/ana@loft.example');
  const [newer] = await house.api.list<RemovedMailbox>('/domains/loft.example/removed-mailboxes');
  expect((await house.api.call('DELETE', `/removed-mailboxes/${newer?.id}`)).status).toBe(200);
  await house.api.call('POST', '/mailboxes', { address: 'office@loft.example', password: 'quiet harbour lantern' });
  expect((await back()).body).toMatchObject({ mailbox: { messages: 1 }, aliasesLeft: ['office@loft.example'] });
  expect((await back()).status).toBe(404);
  const again = await openProgram(house.ports.imaps, 'ana@loft.example');
  await again.mailboxOpen('Archive');
  expect(await again.fetchOne('1', { flags: true, envelope: true })).toMatchObject({
    flags: new Set(['\\Flagged']),
    envelope: { subject: 'kept' },
  });
  await again.logout();
  expect((await house.api.call('GET', '/aliases/all@loft.example')).body).toMatchObject({
    targets: ['ana@loft.example', 'leo@loft.example'],
  });
  for (const bad of ['0', 'x', '999999']) expect((await house.api.call('POST', `/removed-mailboxes/${bad}/restore`)).status).toBe(404);
});

it('a shared mailbox has no password; its members open it under theirs, and send as it where they may', async () => {
  await house.provide('club.example', ['ana', 'leo']);
  expect((await house.api.call('POST', '/mailboxes', { address: 'info@club.example', shared: true })).body).toMatchObject({
    mailbox: { shared: true },
    password: null,
  });
  const members = '/mailboxes/info@club.example/members';
  const share = (body: object) => house.api.call<Member[]>('PUT', members, body);
  expect(await share({ member: 'nobody@club.example' })).toMatchObject({ status: 404 });
  expect(await share({ member: 'ana@club.example', as: 'king' })).toMatchObject({ status: 422 });
  await share({ member: 'leo@club.example', as: 'reader' });
  expect((await share({ member: 'ana@club.example', maySend: true })).body).toMatchObject([
    { address: 'ana@club.example', as: 'writer', rights: 'lrswite', maySend: true },
    { address: 'leo@club.example', as: 'reader', rights: 'lrs', maySend: false },
  ]);
  const sender = async (user: string): Promise<string> => {
    const talk = await Talk.to(house.ports.submissions, { tls: true });
    await talk.say(null);
    await talk.say('EHLO phone.example');
    await talk.say(`AUTH PLAIN ${Buffer.from(`\0${user}\0${PASSWORD}`).toString('base64')}`);
    const reply = await talk.say('MAIL FROM:<info@club.example>');
    talk.end();
    return reply;
  };
  expect(await sender('ana@club.example')).toMatch(/^250 /);
  expect(await sender('leo@club.example')).toBe('550 5.7.1 leo@club.example may not send as info@club.example');
  const [ana, leo] = await Promise.all(['ana', 'leo'].map((one) => openProgram(house.ports.imaps, `${one}@club.example`)));
  await leo?.mailboxOpen('Shared/info@club.example/INBOX');
  const heard = once(leo as NonNullable<typeof leo>, 'exists');
  // Left to itself, the client waits a quarter of a minute before it listens.
  leo?.idle().catch(() => {});
  await ana?.append('Shared/info@club.example/INBOX', 'Subject: to all\r\n\r\nx');
  expect(await heard).toMatchObject([{ path: 'Shared/info@club.example/INBOX', count: 1 }]);
  await expect
    .poll(async () => JSON.stringify((await house.api.call('GET', '/journal?domain=club.example')).body))
    .toContain('ana@club.example put 1 message into INBOX (info@club.example)');
  // What is open when it ends is closed.
  await leo?.mailboxClose();
  expect((await house.api.call('DELETE', `${members}/leo@club.example`)).status).toBe(200);
  expect((await house.api.call('DELETE', `${members}/leo@club.example`)).status).toBe(404);
  expect((await leo?.list())?.some((one) => one.path.startsWith('Shared'))).toBe(false);
  await Promise.all([ana?.logout(), leo?.logout()]);
});
