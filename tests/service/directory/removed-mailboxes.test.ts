import { afterEach, beforeEach, expect, it } from 'vitest';
import { addMailbox, listMailboxes } from '../../../src/service/directory/mailboxes.ts';
import { bringBack, deleteOutdated, deleteRemoved, listRemoved, removeMailbox } from '../../../src/service/directory/removed-mailboxes.ts';
import { operate } from '../../../src/service/mailbox/operate.ts';
import { findMailbox } from '../../../src/store/mailboxes.ts';
import { type Bare, openBare } from '../../support/context.ts';

const DAY = 86_400_000;
let bare: Bare;
beforeEach(async () => {
  bare = await openBare();
});
afterEach(() => bare.close());

const add = async (local: string): Promise<number> => {
  await addMailbox(bare.context, { address: `${local}@shop.example`, password: 'quiet harbour lantern', quotaBytes: null });
  return findMailbox(bare.context.db, local, 'shop.example')?.id ?? 0;
};
const fill = (id: number, text: string) =>
  operate(bare.context, id, {
    kind: 'append',
    to: 'INBOX',
    messages: [{ text: Buffer.from(text), internalDate: 0, flags: 0, keywords: '' }],
    instead: null,
  });
const used = () =>
  bare.context.db.one<{ bytes: number; messages: number }>(
    `SELECT u.bytes, u.messages FROM domain_use u JOIN domain d ON d.id = u.domain_id WHERE d.name = 'shop.example'`,
  );
const rows = (): number => bare.context.db.one<{ n: number }>('SELECT count(*) AS n FROM message')?.n ?? -1;

it('a removed mailbox is deleted when its days have passed, and not a moment sooner; what the domain uses follows each step', async () => {
  const before = used();
  const [kim, mia] = [await add('kim'), await add('mia')];
  await fill(kim, 'x'.repeat(100));
  await fill(mia, 'y'.repeat(10));
  expect(used()).toEqual({ bytes: (before?.bytes ?? 0) + 110, messages: (before?.messages ?? 0) + 2 });
  await removeMailbox(bare.context, 'kim@shop.example');
  expect(used()).toEqual({ bytes: (before?.bytes ?? 0) + 10, messages: (before?.messages ?? 0) + 1 });
  await expect(fill(kim, 'late')).resolves.toMatchObject({ kind: 'refused' });
  bare.pass(30 * DAY - 1);
  await deleteOutdated(bare.context, () => false);
  expect(listRemoved(bare.context, 'shop.example').map((one) => one.address)).toEqual(['kim@shop.example']);
  await bringBack(bare.context, kim);
  expect(used()).toEqual({ bytes: (before?.bytes ?? 0) + 110, messages: (before?.messages ?? 0) + 2 });
  await removeMailbox(bare.context, 'kim@shop.example');
  bare.pass(30 * DAY);
  const messages = rows();
  await deleteOutdated(bare.context, () => false);
  expect(listRemoved(bare.context, 'shop.example')).toEqual([]);
  expect(rows()).toBe(messages - 1);
  expect(used()).toEqual({ bytes: (before?.bytes ?? 0) + 10, messages: (before?.messages ?? 0) + 1 });
});

it('where none is kept it is deleted at once; a plan that is full, or a domain with another role, takes none back', async () => {
  const kim = await add('kim');
  await fill(kim, 'x');
  await removeMailbox(bare.context, 'kim@shop.example');
  const { db } = bare.context;
  const most = (number: number) => db.commit(() => db.run('UPDATE plan SET most_mailboxes = ?', number));
  const has = listMailboxes(bare.context, 'shop.example', { search: '', sort: 'address', offset: 0, limit: 1, reverse: false }).total;
  await most(has);
  await expect(bringBack(bare.context, kim)).rejects.toMatchObject({ code: 'plan-full' });
  await most(9);
  await db.commit(() => db.run("UPDATE domain SET role = 'away' WHERE name = 'shop.example'"));
  await expect(bringBack(bare.context, kim)).rejects.toMatchObject({ code: 'not-here' });
  await db.commit(() => db.run("UPDATE domain SET role = 'home' WHERE name = 'shop.example'"));
  await deleteRemoved(bare.context, kim);
  await expect(deleteRemoved(bare.context, kim)).rejects.toMatchObject({ code: 'not-found' });
  bare.context.keepRemovedDays = 0;
  const mia = await add('mia');
  await fill(mia, 'x');
  await removeMailbox(bare.context, 'mia@shop.example');
  expect(listRemoved(bare.context, 'shop.example')).toEqual([]);
  expect(rows()).toBe(0);
});
