import { once } from 'node:events';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { SignInTrouble } from '../../src/api/access-schemas.ts';
import type { JournalEntry } from '../../src/api/journey-schemas.ts';
import type { AppPassword, BroughtBack, ListsResult, MailboxContents, Member, RemovedMailbox } from '../../src/api/mailbox-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'leo']);
});
afterAll(() => house.close());

const PATH = '/mailboxes/ana@shop.example/app-passwords';
const list = (): Promise<AppPassword[]> => house.api.list<AppPassword>(PATH);
const make = async (name: string): Promise<string> => (await house.api.call<{ password: string }>('POST', PATH, { name })).body.password;

/** What a stranger is told who has mail for somebody. */
async function rcpt(address: string): Promise<string> {
  const talk = await Talk.to(house.ports.smtp);
  await talk.say(null);
  await talk.say('EHLO mx.far.example');
  await talk.say('MAIL FROM:<li@far.example>');
  const reply = await talk.say(`RCPT TO:<${address}>`);
  talk.end();
  return reply;
}

/** Whether a password signs in to submission and to POP3. */
async function signsIn(password: string, user = 'ana@shop.example'): Promise<[boolean, boolean]> {
  const smtp = await Talk.to(house.ports.submissions, { tls: true });
  await smtp.say(null);
  await smtp.say('EHLO phone.example');
  const submitted = await smtp.say(`AUTH PLAIN ${Buffer.from(`\0${user}\0${password}`).toString('base64')}`);
  smtp.end();
  const pop = await Talk.to(house.ports.pop3s, { tls: true });
  await pop.pop(null);
  await pop.pop(`USER ${user}`);
  const opened = await pop.pop(`PASS ${password}`);
  await pop.pop('QUIT');
  pop.end();
  return [submitted.startsWith('235'), opened.startsWith('+OK')];
}

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
  expect(await signsIn(password)).toEqual([true, true]);
  expect(await signsIn(PASSWORD)).toEqual([true, true]);
  // It opens one mailbox, and no other.
  expect(await signsIn(password, 'leo@shop.example')).toEqual([false, false]);
  const other = await openProgram(house.ports.imaps, 'ana@shop.example');
  const ended = once(phone, 'close');
  expect((await house.api.call('DELETE', `${PATH}/${encodeURIComponent('Ana’s phone')}`)).status).toBe(200);
  await ended;
  expect(await signsIn(password)).toEqual([false, false]);
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
  expect(await signsIn(PASSWORD)).toEqual([false, false]);
  expect(await signsIn(password)).toEqual([true, true]);
  await signsIn(PASSWORD);
  const troubles = await house.api.list<SignInTrouble>('/sign-in-troubles');
  expect(troubles.find((one) => one.kind === 'main-password')).toMatchObject({
    mailbox: 'ana@shop.example',
    remedy: 'Make one for that device: tenedor app-password add ana@shop.example NAME',
  });
  await house.api.call('PATCH', '/mailboxes/ana@shop.example', { appPasswordsOnly: false });
  expect(await signsIn(PASSWORD)).toEqual([true, true]);
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

it('how long messages stay in a folder is set by folder', async () => {
  const set = (folder: string, keepDays: number | null) =>
    house.api.call<MailboxContents>('PUT', '/mailboxes/leo@shop.example/retention', { folder, keepDays });
  const days = ({ body }: { body: MailboxContents }) => Object.fromEntries(body.folders.map((one) => [one.name, one.keepDays]));
  expect(days(await set('Trash', 60))).toEqual({ INBOX: null, Archive: null, Drafts: null, Junk: 30, Sent: null, Trash: 60 });
  expect(days(await set('Junk', null))).toMatchObject({ Junk: null, Trash: 60 });
  expect((await set('Nowhere', 3)).status).toBe(404);
  for (const wrong of [0, -1, 1.5, 40_000]) expect((await set('Trash', wrong)).status).toBe(422);
});

const NONE = { customers: 0, domains: 0, mailboxes: 0 };
/** Loads lists, and waits for the end. */
async function loadAll(lists: object): Promise<{ status: number; body: ListsResult }> {
  let now = await house.api.call<ListsResult>('POST', '/lists/load', lists);
  while (now.status === 200 && !now.body.isOver) {
    expect(now.body).toMatchObject({ loaded: NONE, faults: [], passwords: [] });
    now = await house.api.call<ListsResult>('GET', `/lists/loads/${now.body.id}`);
  }
  return now;
}
const load = (csv: string, trial = false) => loadAll({ mailboxes: csv, trial });

it('a list of mailboxes is looked at whole, each fault by its line, and comes whole or not at all', async () => {
  await house.api.call('PATCH', '/plans/standard', { mostMailboxes: 6000 });
  const bad = await load(
    [
      'address,quota,password,aliases',
      'mia@shop.example,2G,,info;office',
      'leo@shop.example,,,',
      'no address,,,',
      'tom@elsewhere.example,,,',
      'kim@shop.example,much,,',
      'lea@shop.example,,short,',
      'mia@shop.example,,,',
      'ben@shop.example,,,office',
      'pia@shop.example,,,x@other.example',
    ].join('\r\n'),
  );
  expect(bad.body).toMatchObject({ loaded: { mailboxes: 0 }, passwords: [] });
  expect(bad.body.faults.map(({ line, text }) => `${line} ${text}`)).toEqual([
    '3 leo@shop.example is already a mailbox.',
    '4 “no address” is not an address.',
    '5 The domain elsewhere.example is not on this server.',
    '6 “much” is no size; write it like 500M or 2G.',
    expect.stringMatching(/^7 .*password/i),
    '8 mia@shop.example stands in line 2 already.',
    '9 office@shop.example stands in line 2 already.',
    '10 The alias x@other.example is of another domain.',
  ]);
  for (const [text, fault] of [
    ['', 'mailboxes'],
    ['shoe\nana', 'There is no column “shoe”'],
    ['quota\n2G', 'The column address is missing'],
    ['address\n"open', 'This is not CSV'],
    ['address,quota\na@shop.example,1G,more', 'This is not CSV'],
    ['address\n', 'The list is empty'],
  ] as const)
    expect(JSON.stringify((await load(text)).body), text).toContain(fault);
  expect((await house.api.list('/domains/shop.example/mailboxes')).length).toBe(2);
  const good = 'Address,Password,Aliases\n"mia@shop.example",,info office\nkim@shop.example,quiet harbour lantern,\n';
  expect((await load(good, true)).body).toMatchObject({ isOver: true, loaded: NONE, faults: [], passwords: [] });
  const { body } = await load(good);
  expect(body).toMatchObject({ loaded: { mailboxes: 2 }, faults: [], passwords: [{ address: 'mia@shop.example' }] });
  const made = body.passwords[0]?.password ?? '';
  expect(await signsIn(made, 'mia@shop.example')).toEqual([true, true]);
  expect(await signsIn('something else', 'mia@shop.example')).toEqual([false, false]);
  expect(await signsIn('quiet harbour lantern', 'kim@shop.example')).toEqual([true, true]);
  expect(house.log.join('')).not.toContain(made);
  expect(await house.api.call('GET', '/aliases/office@shop.example')).toMatchObject({
    status: 200,
    body: { targets: ['mia@shop.example'] },
  });
  // Twice adds nothing twice.
  expect((await load(good)).body.faults).toHaveLength(4);
});

it('a whole office of five thousand is there in one call, and a plan that allows less says so first', async () => {
  const csv = (count: number): string => `address\n${Array.from({ length: count }, (_one, at) => `person${at}@shop.example\n`).join('')}`;
  const { body } = await load(csv(6001));
  expect(body.faults).toEqual([{ list: 'mailboxes', line: 6002, text: expect.stringContaining('allows 6000: 6001 more are too many') }]);
  expect((await load(csv(5000))).body).toMatchObject({ loaded: { mailboxes: 5000 } });
  expect((await house.api.call<MailboxContents>('GET', '/mailboxes/person4999@shop.example/contents')).body.folders).toHaveLength(6);
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
  expect(notice?.source?.toString()).toMatch(/^Of the room of full@shop\.example, 91 % are used \(/m);
  expect(JSON.stringify((await house.api.call('GET', '/journal?domain=shop.example')).body)).toContain(
    'full@shop.example uses nine tenths of its quota',
  );
  // Once, until there is room again.
  await fill(10);
  expect(await program.status('INBOX', { messages: true })).toMatchObject({ messages: 1 });
  await quota(10_000);
  await expect(fill(10)).rejects.toMatchObject({ serverResponseCode: 'OVERQUOTA' });
  const refused = (): Promise<string> => rcpt('full@shop.example');
  expect(await refused()).toBe('452 4.2.2 The mailbox full@shop.example is full; its owner must make room');
  await house.api.call('PATCH', '/domains/shop.example', { fullMailbox: 'refuse' });
  expect(await refused()).toBe('552 5.2.2 The mailbox full@shop.example is full, and takes no mail until its owner makes room');
  // Room is made, and used up again: that is told again.
  await program.mailboxOpen('Archive');
  await program.messageDelete('1:*');
  await fill(9000);
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
  await expect(add()).rejects.toMatchObject({ responseText: 'All that the domain may store is used' });
  expect(await rcpt('one@yard.example')).toBe('452 4.2.2 The domain of one@yard.example is full; somebody there must make room');
  expect((await house.api.call<Domain>('GET', '/domains/yard.example')).body).toMatchObject({ usedMessages: before + 1 });
  await expect
    .poll(async () => JSON.stringify((await house.api.call('GET', '/journal?domain=yard.example')).body))
    .toContain('together use nine tenths of what it may store');
  // A message that goes makes room for all of them.
  await two.mailboxOpen('Archive');
  await two.messageDelete('1');
  expect(await rcpt('one@yard.example')).toMatch(/^250/);
  for (const bad of [0, -1, 1.5, 'many'])
    expect(await house.api.call('PATCH', '/domains/yard.example', { storageMessages: bad })).toMatchObject({ status: 422 });
  await two.logout();
});

it('a removed mailbox is gone for everybody at once, and comes back as it was', async () => {
  await house.provide('loft.example', ['ana', 'leo']);
  await house.api.call('POST', '/aliases', { address: 'office@loft.example', targets: ['ana@loft.example'] });
  await house.api.call('POST', '/aliases', { address: 'all@loft.example', targets: ['ana@loft.example', 'leo@loft.example'] });
  const program = await openProgram(house.ports.imaps, 'ana@loft.example');
  await program.append('Archive', 'Subject: kept\r\n\r\nx', ['\\Flagged']);
  const isClosed = new Promise((resolve) => program.once('close', resolve));
  expect((await house.api.call('DELETE', '/mailboxes/ana@loft.example')).status).toBe(200);
  await isClosed;
  expect(await signsIn(PASSWORD, 'ana@loft.example')).toEqual([false, false]);
  expect((await house.api.call('GET', '/mailboxes/ana@loft.example')).status).toBe(404);
  expect((await house.api.call('GET', '/aliases/office@loft.example')).status).toBe(404);
  expect((await house.api.call<Domain>('GET', '/domains/loft.example')).body).toMatchObject({ mailboxes: 1, usedMessages: 0 });
  const [kept] = await house.api.list<RemovedMailbox>('/domains/loft.example/removed-mailboxes');
  expect(kept).toMatchObject({ address: 'ana@loft.example', messages: 1 });
  expect((kept?.keptUntil ?? 0) - (kept?.removedAt ?? 0)).toBe(30 * 86_400_000);
  // Its address is free meanwhile, and then it can't come back there.
  await house.api.call('POST', '/mailboxes', { address: 'ana@loft.example', password: 'quiet harbour lantern' });
  const back = () => house.api.call<BroughtBack>('POST', `/removed-mailboxes/${kept?.id}/bring-back`);
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
  for (const bad of ['0', 'x', '999999']) expect((await house.api.call('POST', `/removed-mailboxes/${bad}/bring-back`)).status).toBe(404);
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

it('customers, domains and mailboxes come together in one call, each fault by its list and line', async () => {
  const customers = 'customer,contact\nCave Winery,cellar@cave.example\n';
  const domains =
    'domain,customer,plan,role,to\ncave.example,Cave Winery,,,\ncave-two.example,cave winery,standard,pass-on,mx.cave.example\n';
  const mailboxes = 'address,name\nmaria@cave.example,María Roca\n';
  const bad = await loadAll({
    customers: `${customers}cave winery,\n,\nX,no address\n`,
    domains: `${domains}cave.example,Cave Winery\nshop.example,Nobody,nowhere,lodger\nd.example,Cave Winery,,pass-on,\n`
      .replaceAll(/^(cave\.example,Cave Winery|shop.*)$/gm, '$1,,,')
      .replace('lodger,,,', 'lodger,'),
    mailboxes: `${mailboxes}leo@cave-two.example,\n`,
  });
  expect(bad.body.loaded).toEqual(NONE);
  expect(bad.body.faults.map(({ list, line, text }) => `${list} ${line} ${text}`)).toEqual([
    'customers 3 cave winery stands in line 2 already.',
    'customers 4 The customer’s name is empty.',
    expect.stringMatching(/^customers 5 “no address” is not an address/),
    'domains 4 cave.example stands in line 2 already.',
    expect.stringMatching(/^domains 5 The domain shop\.example is already on this server/),
    'domains 5 There is no customer “Nobody”.',
    'domains 5 There is no plan “nowhere”.',
    'domains 5 “lodger” is no role; there are home, pass-on, standby, away.',
    'domains 6 With the role pass-on, mail needs a server to go to.',
    'mailboxes 3 cave-two.example has the role pass-on: its mailboxes are elsewhere.',
  ]);
  expect((await house.api.call('GET', '/domains/cave.example')).status).toBe(404);
  expect((await loadAll({ customers, domains, mailboxes, trial: true })).body).toMatchObject({
    isOver: true,
    loaded: NONE,
    faults: [],
    passwords: [],
  });
  const { body } = await loadAll({ customers, domains, mailboxes });
  expect(body.loaded).toEqual({ customers: 1, domains: 2, mailboxes: 1 });
  expect(await signsIn(body.passwords[0]?.password ?? '', 'maria@cave.example')).toEqual([true, true]);
  expect((await house.api.call('GET', '/mailboxes/maria@cave.example')).body).toMatchObject({ name: 'María Roca' });
  expect((await house.api.call('GET', '/domains/cave-two.example')).body).toMatchObject({
    role: 'pass-on',
    primaryServer: 'mx.cave.example',
  });
  expect((await house.api.call('GET', '/customers/Cave%20Winery')).body).toMatchObject({ contact: 'cellar@cave.example', domains: 2 });
  expect(await loadAll({})).toMatchObject({ status: 200, body: { loaded: NONE, faults: [] } });
});

it('passwords that another server keeps as hashes go on working, and are kept as ours from the first sign-in', async () => {
  const hash = '$6$saltstring$svn8UoSVapNtMuq1ukKS4tPQd8iKwSMHWjl/O817G3uBnIFNjnQJuesI68u4OTLiBFdcbYEdFCoEOfaS35inz1';
  const faults = (await load(`address,hash,password\nrosa@shop.example,{MD5}x,\nrosb@shop.example,${hash},quiet harbour lantern\n`)).body
    .faults;
  expect(faults.map((one) => one.text)).toEqual([
    expect.stringContaining('The hash can’t be used: it is none of argon2id'),
    'There is a password and a hash; give one of them.',
  ]);
  expect((await load(`address,hash\nrosa@shop.example,${hash}\n`)).body).toMatchObject({ loaded: { mailboxes: 1 }, passwords: [] });
  const kept = () => house.service.context.db.one<{ hash: string }>("SELECT password_hash AS hash FROM mailbox WHERE local = 'rosa'")?.hash;
  expect(await signsIn('Hello world?', 'rosa@shop.example')).toEqual([false, false]);
  expect(kept()).toBe(hash);
  // Two devices at the same moment: both are in.
  const both = await Promise.all([1, 2].map(() => openProgram(house.ports.imaps, 'rosa@shop.example', { password: 'Hello world!' })));
  expect(kept()).toMatch(/^scrypt\$/);
  for (const one of both) {
    expect((await one.list()).length).toBe(6);
    await one.logout();
  }
  expect(await signsIn('Hello world!', 'rosa@shop.example')).toEqual([true, true]);
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

it('a list that takes long tells how far it has come, and its result once', async () => {
  await house.provide('long.example', []);
  const rows = Array.from({ length: 24 }, (_none, at) => `p${at}@long.example,quiet harbour lantern ${at}\n`);
  const first = await house.api.call<ListsResult>('POST', '/lists/load', { mailboxes: `address,password\n${rows.join('')}` });
  let now = first;
  const seen: number[] = [];
  while (!now.body.isOver) {
    seen.push(now.body.done);
    now = await house.api.call<ListsResult>('GET', `/lists/loads/${first.body.id}`);
  }
  expect(now.body).toMatchObject({ done: 24, total: 24, loaded: { mailboxes: 24 } });
  expect(seen).toEqual([...seen].sort((one, other) => one - other));
  expect((await house.api.call('GET', `/lists/loads/${first.body.id}`)).status).toBe(404);
  expect((await house.api.call('GET', '/lists/loads/none')).status).toBe(404);
});
