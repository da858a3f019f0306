import { afterAll, beforeAll, expect, it } from 'vitest';
import type { MailboxContents } from '../../src/api/mailbox-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { rcptReply } from '../support/asking.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'leo']);
});
afterAll(() => house.close());

it('how long messages stay in a folder is set by folder', async () => {
  const set = (folder: string, keepDays: number | null) =>
    house.api.call<MailboxContents>('PUT', '/mailboxes/leo@shop.example/retention', { folder, keepDays });
  const days = ({ body }: { body: MailboxContents }) => Object.fromEntries(body.folders.map((one) => [one.name, one.keepDays]));
  expect(days(await set('Trash', 60))).toEqual({ INBOX: null, Archive: null, Drafts: null, Junk: 30, Sent: null, Trash: 60 });
  expect(days(await set('Junk', null))).toMatchObject({ Junk: null, Trash: 60 });
  expect((await set('Nowhere', 3)).status).toBe(404);
  for (const wrong of [0, -1, 1.5, 40_000]) expect((await set('Trash', wrong)).status).toBe(422);
});

it('who has used nine tenths of the quota is told once, in the mailbox; a full one puts mail off, or refuses it, as its domain says', async () => {
  await house.provide('shop.example', ['full']);
  // Smaller than anybody would set, so that little fills it.
  const { db } = house.service.context;
  const quota = (bytes: number) => db.commit(() => db.run("UPDATE kept_mailbox SET quota_bytes = ? WHERE local = 'full'", bytes));
  await quota(20_000);
  const program = await openProgram(house.ports.imaps, 'full@shop.example');
  const fill = (octets: number): Promise<unknown> => program.append('Archive', `Subject: x\r\n\r\n${'x'.repeat(octets)}`);
  await fill(17_500);
  expect(await program.status('INBOX', { messages: true })).toMatchObject({ messages: 0 });
  await fill(700);
  await expect.poll(async () => program.status('INBOX', { messages: true })).toMatchObject({ messages: 1 });
  await program.mailboxOpen('INBOX');
  const [notice] = await program.fetchAll('1', { envelope: true, source: true });
  expect(notice?.envelope?.subject).toBe('Your mailbox is nearly full');
  expect(notice?.source?.toString()).toMatch(/^full@shop\.example uses 91 % of its storage \(/m);
  expect(JSON.stringify((await house.api.call('GET', '/journal?domain=shop.example')).body)).toContain(
    'full@shop.example uses 90 % of its quota',
  );
  // Once, until there is room again.
  await fill(10);
  expect(await program.status('INBOX', { messages: true })).toMatchObject({ messages: 1 });
  await quota(10_000);
  await expect(fill(10)).rejects.toMatchObject({ serverResponseCode: 'OVERQUOTA' });
  const refused = (): Promise<string> => rcptReply(house, 'full@shop.example');
  expect(await refused()).toBe('452 4.2.2 The mailbox full@shop.example has no room for this message; its owner must make some');
  await house.api.call('PATCH', '/domains/shop.example', { fullMailbox: 'refuse' });
  expect(await refused()).toBe('552 5.2.2 The mailbox full@shop.example has no room for this message; its owner must make some');
  // Room is made, and used up again: that is told again.
  await program.mailboxOpen('Archive');
  await program.messageDelete('1:*');
  await quota(20_000);
  await fill(18_000);
  await expect.poll(async () => program.status('INBOX', { messages: true })).toMatchObject({ messages: 2 });
  await program.logout();
});

it('a quota counts messages too, and a domain has one for all of its mailboxes; IMAP shows both (RFC 9208)', async () => {
  await house.provide('yard.example', ['one', 'two']);
  const two = await openProgram(house.ports.imaps, 'two@yard.example');
  const add = (): Promise<unknown> => two.append('Archive', 'Subject: x\r\n\r\nx');
  await house.api.call('PATCH', '/mailboxes/two@yard.example', { quotaMessages: 2 });
  await add();
  await add();
  await expect(add()).rejects.toMatchObject({ serverResponseCode: 'OVERQUOTA', responseText: 'The mailbox is full' });
  expect(await two.getQuota('INBOX')).toMatchObject({ path: 'INBOX', storage: { usage: 1024 }, message: { usage: 2, limit: 2 } });
  await house.api.call('PATCH', '/mailboxes/two@yard.example', { quotaMessages: null });
  const before = (await house.api.call<Domain>('GET', '/domains/yard.example')).body.usedMessages;
  await house.api.call('PATCH', '/domains/yard.example', { storageMessages: before + 1 });
  await add();
  await expect(add()).rejects.toMatchObject({ responseText: 'The storage of the domain is full' });
  expect(await rcptReply(house, 'one@yard.example')).toBe(
    '452 4.2.2 The domain of one@yard.example has no room for this message; somebody there must make some',
  );
  expect((await house.api.call<Domain>('GET', '/domains/yard.example')).body).toMatchObject({ usedMessages: before + 1 });
  await expect
    .poll(async () => JSON.stringify((await house.api.call('GET', '/journal?domain=yard.example')).body))
    .toContain('use 90 % of its storage');
  // A message that goes makes room for all of them.
  await two.mailboxOpen('Archive');
  await two.messageDelete('1');
  expect(await rcptReply(house, 'one@yard.example')).toMatch(/^250/);
  for (const bad of [0, -1, 1.5, 'many'])
    expect(await house.api.call('PATCH', '/domains/yard.example', { storageMessages: bad })).toMatchObject({ status: 422 });
  await two.logout();
});

it('POP3 shows junk too where the mailbox wants it, marked; what is removed there is gone from the folder', async () => {
  await house.provide('hill.example', ['ana']);
  const program = await openProgram(house.ports.imaps, 'ana@hill.example');
  await program.append('INBOX', 'Subject: first\r\n\r\nx\r\n');
  await program.append('Junk', 'Subject: Año\r\n\r\nx\r\n');
  await program.append('INBOX', 'Subject: third\r\n\r\nx\r\n');
  const pop = async (...commands: string[]): Promise<string[]> => {
    const talk = await Talk.to(house.ports.pop3s, { tls: true });
    const said: string[] = [];
    await talk.pop(null);
    for (const one of ['USER ana@hill.example', `PASS ${PASSWORD}`, ...commands]) said.push(await talk.pop(one, one.startsWith('RETR')));
    await talk.pop('QUIT');
    talk.end();
    return said.slice(2);
  };
  expect(await pop('STAT')).toEqual([expect.stringMatching(/^\+OK 2 /)]);
  expect((await house.api.call('PATCH', '/mailboxes/ana@hill.example', { pop3Junk: true })).body).toMatchObject({
    mailbox: { pop3Junk: true },
  });
  const [stat, junk] = await pop('STAT', 'RETR 2', 'DELE 2');
  expect(stat).toMatch(/^\+OK 3 /);
  expect(junk).toContain('Subject: =?utf-8?B?W0p1bmtdIEHDsW8=?=\r\n');
  expect(await program.status('Junk', { messages: true })).toMatchObject({ messages: 0 });
  expect(await pop('RETR 1')).toEqual([expect.stringContaining('Subject: first\r\n')]);
  await program.logout();
});
