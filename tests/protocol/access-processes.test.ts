import { once } from 'node:events';
import { join } from 'node:path';
import type { ImapFlow } from 'imapflow';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { operate } from '../../src/service/mailbox/operate.ts';
import { findFolderNamed } from '../../src/store/folders.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { SearchIndex } from '../../src/store/search-index.ts';
import { type House, openHouse } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse({ processes: 2 });
  await house.provide('shop.example', ['ana', 'leo']);
});
afterAll(() => house.close());

const text = (subject: string): string => `From: Li <li@far.example>\r\nTo: ana@shop.example\r\nSubject: ${subject}\r\n\r\nHello\r\n`;
const open: ImapFlow[] = [];
const program = async (user = 'ana@shop.example'): Promise<ImapFlow> => {
  const made = await openProgram(house.ports.imaps, user);
  open.push(made);
  return made;
};

it('whoever looks at a folder hears of what others do to it, whichever process they speak to', async () => {
  const all = await Promise.all(Array.from({ length: 6 }, () => program()));
  const [first, ...others] = all as [ImapFlow, ...ImapFlow[]];
  for (const one of all) await one.mailboxOpen('INBOX');
  const wait = (): void => {
    for (const one of others) one.idle().catch(() => {});
  };
  const heard = (event: string) => Promise.all(others.map((one) => once(one, event)));
  wait();
  const arrived = heard('exists');
  expect(await first.append('INBOX', text('first'), ['\\Seen'])).toMatchObject({ uid: 1 });
  await arrived;
  // By SMTP, too.
  const again = heard('exists');
  const talk = await Talk.to(house.ports.smtp);
  await talk.say(null);
  await talk.say('EHLO mx.far.example');
  await talk.say('MAIL FROM:<li@far.example>');
  await talk.say('RCPT TO:<ana@shop.example>');
  await talk.say('DATA');
  expect(await talk.say(`${text('second')}.`)).toMatch(/^250/);
  talk.end();
  await again;
  const flagged = heard('flags');
  await first.noop();
  await first.messageFlagsAdd('2', ['\\Flagged', 'Work']);
  await flagged;
  const gone = heard('expunge');
  await first.messageDelete('1');
  await gone;
  for (const one of all) {
    const found = await one.fetchAll('1:*', { uid: true, flags: true, envelope: true });
    expect(found.map(({ uid, flags, envelope }) => [uid, [...(flags ?? [])].sort(), envelope?.subject])).toEqual([
      [2, ['Work', '\\Flagged'], 'second'],
    ]);
  }
});

it('a process that is killed takes only its own conversations with it, and another takes its place', async () => {
  const { access } = house.service;
  const before = access.processes;
  expect(before).toHaveLength(2);
  await expect.poll(() => access.processes.reduce((sum, one) => sum + one.open, 0)).toBe(6);
  const [victim] = before;
  process.kill(victim?.pid ?? 0, 'SIGKILL');
  await expect.poll(() => access.processes.filter((one) => before.every(({ pid }) => pid !== one.pid)).length).toBe(1);
  // Those of the other process go on, and nobody has to wait for a new one.
  const left = (): ImapFlow[] => open.filter((one) => one.usable);
  await expect.poll(() => left().length).toBe(6 - (victim?.open ?? 0));
  for (const one of left()) expect(await one.status('INBOX', { messages: true })).toMatchObject({ messages: 1 });
  const metrics = await (await fetch(`${house.api.url}/metrics`)).text();
  expect(metrics).toMatch(/^tenedor_access_processes 2$/m);
  expect(metrics).toContain(`tenedor_mailbox_sessions{service="imap"} ${left().length}`);
  const fresh = await program('leo@shop.example');
  expect((await fresh.list()).map((one) => one.path).sort()).toEqual(['Archive', 'Drafts', 'INBOX', 'Junk', 'Sent', 'Trash']);
  // What the lost ones were signed in as is counted no more.
  expect(house.service.context.desk.count('IMAP')).toBe(left().length);
});

it('a password that is changed ends the conversations that signed in with the one before', async () => {
  const leo = await program('leo@shop.example');
  const ended = once(leo, 'close');
  await house.api.call('PATCH', '/mailboxes/leo@shop.example', { password: 'another calm harbour' });
  await ended;
  await expect(program('leo@shop.example')).rejects.toThrow();
});

it('one process keeps the index of folders; when it is killed another goes on with it, and searches find the same all the time', async () => {
  await house.provide('index.example', ['ana']);
  const { context, access } = house.service;
  const mailbox = findMailbox(context.db, 'ana', 'index.example');
  const append = async (from: number, count: number): Promise<void> => {
    for (let at = from; at < from + count; at += 100)
      await operate(context, mailbox?.id ?? 0, {
        kind: 'append',
        to: 'Archive',
        messages: Array.from({ length: Math.min(100, from + count - at) }, (_none, place) => ({
          text: Buffer.from(text(`number ${at + place} of many`)),
          internalDate: 0,
          flags: 0,
          keywords: '',
        })),
        instead: null,
      });
  };
  const index = new SearchIndex(join(house.folder, 'data'));
  const folder = findFolderNamed(context.db, mailbox?.id ?? 0, 'Archive')?.id ?? 0;
  const indexedTo = (uid: number) => expect.poll(() => index.state(folder)?.uid).toBe(uid);
  const find = async (number: number): Promise<unknown> => {
    const one = await openProgram(house.ports.imaps, 'ana@index.example');
    await one.mailboxOpen('Archive');
    const found = await one.search({ subject: `number ${number} of` }, { uid: true });
    await one.logout();
    return found;
  };
  await append(1, 600);
  await indexedTo(600);
  expect(await find(77)).toEqual([77]);
  // The one that has run for longest is it.
  process.kill(access?.processes[0]?.pid ?? 0, 'SIGKILL');
  await append(601, 100);
  await expect.poll(() => find(651).catch(() => null)).toEqual([651]);
  await indexedTo(700);
  expect(await find(651)).toEqual([651]);
  index.close();
});
