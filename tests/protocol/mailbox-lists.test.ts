import { afterAll, beforeAll, expect, it } from 'vitest';
import type { ListsResult, MailboxContents } from '../../src/api/mailbox-schemas.ts';
import { signsIn } from '../support/asking.ts';
import { type House, openHouse } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'leo']);
});
afterAll(() => house.close());

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
    '6 “much” is not a size. Write it like 500M or 2G.',
    expect.stringMatching(/^7 .*password/i),
    '8 mia@shop.example is already in line 2.',
    '9 office@shop.example is already in line 2.',
    '10 The alias x@other.example belongs to another domain.',
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
  expect(await signsIn(house, made, 'mia@shop.example')).toEqual([true, true]);
  expect(await signsIn(house, 'something else', 'mia@shop.example')).toEqual([false, false]);
  expect(await signsIn(house, 'quiet harbour lantern', 'kim@shop.example')).toEqual([true, true]);
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
    'customers 3 cave winery is already in line 2.',
    'customers 4 The customer’s name is empty.',
    expect.stringMatching(/^customers 5 “no address” is not an address/),
    'domains 4 cave.example is already in line 2.',
    expect.stringMatching(/^domains 5 The domain shop\.example is already on this server/),
    'domains 5 There is no customer “Nobody”.',
    'domains 5 There is no plan “nowhere”.',
    'domains 5 “lodger” is not a role. Roles are home, pass-on, standby, away.',
    'domains 6 The role pass-on needs a server.',
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
  expect(await signsIn(house, body.passwords[0]?.password ?? '', 'maria@cave.example')).toEqual([true, true]);
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
    expect.stringContaining('The hash can’t be used: its form is not one of argon2id'),
    'Give either a password or a hash.',
  ]);
  expect((await load(`address,hash\nrosa@shop.example,${hash}\n`)).body).toMatchObject({ loaded: { mailboxes: 1 }, passwords: [] });
  const kept = () => house.service.context.db.one<{ hash: string }>("SELECT password_hash AS hash FROM mailbox WHERE local = 'rosa'")?.hash;
  expect(await signsIn(house, 'Hello world?', 'rosa@shop.example')).toEqual([false, false]);
  expect(kept()).toBe(hash);
  // Two devices at the same moment: both are in.
  const both = await Promise.all([1, 2].map(() => openProgram(house.ports.imaps, 'rosa@shop.example', { password: 'Hello world!' })));
  expect(kept()).toMatch(/^scrypt\$/);
  for (const one of both) {
    expect((await one.list()).length).toBe(6);
    await one.logout();
  }
  expect(await signsIn(house, 'Hello world!', 'rosa@shop.example')).toEqual([true, true]);
});

it('a list that takes long tells how far it has come, and its result again where an answer was lost', async () => {
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
  expect((await house.api.call('GET', `/lists/loads/${first.body.id}`)).body).toEqual(now.body);
  expect((await house.api.call('GET', '/lists/loads/none')).status).toBe(404);
});
