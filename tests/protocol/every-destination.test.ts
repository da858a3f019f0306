import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Overview } from '../../src/api/schemas.ts';
import { listEntries, listRecipients } from '../../src/store/journeys.ts';
import { Talk } from '../support/talk.ts';
import { idOf, openTown, send, type Town } from '../support/town.ts';

let town: Town;
beforeAll(async () => {
  town = await openTown();
  await town.house.provide('shop.example', ['ana', 'li', 'full', 'small']);
});
afterAll(() => town.close());

const db = () => town.house.service.context.db;
const states = (id: string): Record<string, string> => Object.fromEntries(listRecipients(db(), id).map((one) => [one.address, one.state]));
const events = (id: string): string[] => listEntries(db(), id).map((one) => one.event);
const alias = (address: string, targets: string[]) => town.house.api.call('POST', '/aliases', { address, targets });
/** A message to one address from outside; the reply that it got. */
async function bring(to: string | string[], text?: string): Promise<string> {
  const talk = await town.from('203.0.113.20');
  await talk.say('EHLO mx.open.example');
  const reply = await send(talk, 'far@open.example', to, text);
  talk.end();
  return reply;
}
const quota = (local: string, bytes: number) =>
  db().commit(() => db().run('UPDATE kept_mailbox SET quota_bytes = ? WHERE local = ?', bytes, local));
/** Tries all that waits. */
async function tryAgain(id: string): Promise<void> {
  const tried = town.attempted(id);
  const { clock, signals } = town.house.service.context;
  await db().commit(() =>
    db().run('UPDATE recipient SET next_attempt_at = ? WHERE journey_id = ? AND next_attempt_at IS NOT NULL', clock.steady(), id),
  );
  signals.emit('queue-changed');
  await tried;
}

it('mail for postmaster waits with its sender until the host’s postmaster has a place', async () => {
  town.house.dns.publish({ name: 'house.example', type: 'MX', value: '10 mail.host.example' });
  expect(await bring('postmaster@shop.example')).toMatch(/^450 4\.2\.1/);
  const attention = async () => JSON.stringify((await town.house.api.call<Overview>('GET', '/overview')).body.attention);
  expect(await attention()).toContain('Mail to postmaster and abuse cannot be delivered');
  await town.house.provide('house.example', ['post']);
  expect(await bring('postmaster@shop.example')).toMatch(/^250 2\.6\.0/);
  expect(await attention()).not.toContain('postmaster');
});

describe('lists', () => {
  it('eight lists of a hundred in one reach all; one more than may be is refused at RCPT; lists in a circle reach each member once', async () => {
    for (let at = 0; at < 11; at += 1)
      await alias(
        `part${at}@shop.example`,
        Array.from({ length: 100 }, (_none, one) => `m${at}-${one}@open.example`),
      );
    await alias(
      'all@shop.example',
      Array.from({ length: 8 }, (_none, at) => `part${at}@shop.example`),
    );
    await alias(
      'more@shop.example',
      Array.from({ length: 11 }, (_none, at) => `part${at}@shop.example`),
    );
    const id = idOf(await bring('all@shop.example'));
    expect(Object.keys(states(id))).toHaveLength(800);
    await expect.poll(() => new Set(town.open.filed.map((one) => one.recipient)).size, { timeout: 30_000 }).toBe(800);
    const talk = await town.from('203.0.113.20');
    await talk.say('EHLO mx.open.example');
    await talk.say('MAIL FROM:<far@open.example>');
    expect(await talk.say('RCPT TO:<more@shop.example>')).toMatch(/^550 5\.5\.3 more@shop\.example leads to more than 1000 addresses/);
    // All recipients of one message together have the same bound.
    for (let at = 0; at < 10; at += 1) expect(await talk.say(`RCPT TO:<part${at}@shop.example>`)).toMatch(/^250/);
    expect(await talk.say('RCPT TO:<part10@shop.example>')).toMatch(/^452 4\.5\.3/);
    talk.end();
    await alias('one@shop.example', ['ana@shop.example']);
    await alias('two@shop.example', ['one@shop.example', 'li@shop.example']);
    await town.house.api.call('PATCH', '/aliases/one@shop.example', { targets: ['ana@shop.example', 'two@shop.example'] });
    expect(states(idOf(await bring('one@shop.example')))).toEqual({ 'ana@shop.example': 'delivered', 'li@shop.example': 'delivered' });
  });

  it('a member whose mailbox is full gets the message when there is room, or its sender hears that it does not', async () => {
    await alias('team@shop.example', ['ana@shop.example', 'full@shop.example']);
    await quota('full', 0);
    const waiting = idOf(await bring('team@shop.example'));
    await expect.poll(() => states(waiting)).toEqual({ 'ana@shop.example': 'delivered', 'full@shop.example': 'delayed' });
    await quota('full', 10_000);
    await tryAgain(waiting);
    expect(states(waiting)).toEqual({ 'ana@shop.example': 'delivered', 'full@shop.example': 'delivered' });
    expect((await town.house.api.call('GET', '/mailboxes/full@shop.example')).body).toMatchObject({ messages: 1 });
    await quota('full', 0);
    await town.house.api.call('PATCH', '/domains/shop.example', { fullMailbox: 'refuse' });
    const refused = idOf(await bring('team@shop.example'));
    await expect.poll(() => events(refused)).toContain('reported');
    expect(states(refused)).toEqual({ 'ana@shop.example': 'delivered', 'full@shop.example': 'failed' });
    await town.house.api.call('PATCH', '/domains/shop.example', { fullMailbox: 'put-off' });
    await quota('full', 10_000);
  });

  it('what waits for room goes to nobody else who has the name later', async () => {
    await quota('full', 0);
    const waiting = idOf(await bring('team@shop.example'));
    await expect.poll(() => states(waiting)).toMatchObject({ 'full@shop.example': 'delayed' });
    await town.house.api.call('DELETE', '/mailboxes/full@shop.example?forGood=true');
    await town.house.provide('shop.example', ['full']);
    await tryAgain(waiting);
    expect(states(waiting)).toMatchObject({ 'full@shop.example': 'failed' });
    expect((await town.house.api.call('GET', '/mailboxes/full@shop.example')).body).toMatchObject({ messages: 0 });
  });
});

it('a quota is never passed: of many messages at once those get in that fit, with and without SIZE, and the others hear of it', async () => {
  await town.house.api.call('PATCH', '/mailboxes/small@shop.example', { quotaBytes: 1024 * 1024 });
  const text = `From: far@open.example\r\nSubject: big\r\n\r\n${`${'x'.repeat(98)}\r\n`.repeat(3000)}`;
  const talks = await Promise.all(
    Array.from({ length: 24 }, async (_none, at) => {
      const talk = await town.from(`203.0.113.${100 + at}`);
      await talk.say('EHLO mx.open.example');
      return talk;
    }),
  );
  const replies = await Promise.all(
    talks.map((talk, at) => send(talk, 'far@open.example', 'small@shop.example', text, at % 2 === 0 ? ` SIZE=${text.length}` : '')),
  );
  for (const talk of talks) talk.end();
  expect(replies.filter((one) => one.startsWith('250 2.6.0'))).toHaveLength(3);
  expect(replies.filter((one) => /^452 4\.2\.2 The mailbox small@shop\.example has no room/.test(one))).toHaveLength(21);
  const { body } = await town.house.api.call<{ usedBytes: number; messages: number }>('GET', '/mailboxes/small@shop.example');
  expect(body.messages).toBe(3);
  expect(body.usedBytes).toBeLessThanOrEqual(1024 * 1024);
  // With others, the one without room waits for it.
  const id = idOf(await bring(['small@shop.example', 'li@shop.example'], text));
  await expect.poll(() => states(id)).toEqual({ 'li@shop.example': 'delivered', 'small@shop.example': 'delayed' });
});

it.each([
  [
    'SMTP',
    () => town.house.ports.smtp,
    'EHLO x.open.example\r\nMAIL FROM:<far@open.example>\r\nRCPT TO:<ana@shop.example>\r\nDATA\r\n',
    'From: far@open.example\r\n\r\nx\r\n.\r\n',
    /250 2\.6\.0 Accepted as/,
  ],
  ['IMAP', () => town.house.ports.imap, '', 'a CAPABILITY\r\n', /^a OK/m],
  ['POP3', () => town.house.ports.pop3, '', 'CAPA\r\n', /^\.\r\n/m],
])('a client that closes its sending half gets its reply: %s', async (_name, port, before, last, reply) => {
  const talk = await Talk.to(port());
  await talk.until((text) => text.includes('\r\n'));
  if (before !== '') {
    talk.write(before);
    await talk.until((text) => text.includes('354'));
  }
  talk.write(last);
  talk.finish();
  expect(await talk.closed()).toMatch(reply);
});
