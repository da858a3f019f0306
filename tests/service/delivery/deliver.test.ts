import { once } from 'node:events';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { GIVE_UP_AFTER } from '../../../src/core/retry/schedule.ts';
import { acceptMessage } from '../../../src/service/acceptance/accept-message.ts';
import { plainRecipient } from '../../../src/service/acceptance/planned-recipient.ts';
import type { ServiceContext } from '../../../src/service/app/context.ts';
import type { AttemptResult, RemoteHost } from '../../../src/service/base/ports.ts';
import { Deliverer } from '../../../src/service/delivery/deliver.ts';
import { changeOutlet } from '../../../src/service/delivery/outlets.ts';
import { actOnQueue } from '../../../src/service/delivery/queue.ts';
import { nothingSent, recipientResult, writeOutcome } from '../../../src/service/delivery/write-outcome.ts';
import { letGoOfEndedStops, pause } from '../../../src/service/limits/set-stops.ts';
import { listDueOf } from '../../../src/store/due-recipients.ts';
import { listEntries, listJournal, listRecipients } from '../../../src/store/journeys.ts';
import { type Bare, journeyOf, openBare } from '../../support/context.ts';
import { lookupIn } from '../../support/lookup.ts';

const START = 1_790_000_000_000;
let bare: Bare;
let context: ServiceContext;
let stopDeliverer: () => Promise<void>;

beforeEach(async () => {
  bare = await openBare({
    start: START,
    lookup: lookupIn(
      ['a', 'b', 'c', 'big'].flatMap((name, at) => [
        [`${name}.example`, 'MX', `10 mx1.${name}.example`],
        [`${name}.example`, 'MX', `20 mx2.${name}.example`],
        [`mx1.${name}.example`, 'A', `203.0.113.${at}`],
        [`mx2.${name}.example`, 'A', `203.0.113.${at + 10}`],
      ]) as Parameters<typeof lookupIn>[0],
    ),
  });
  ({ context } = bare);
});
afterEach(async () => {
  await stopDeliverer?.();
  bare.close();
  expect(bare.faults).toEqual([]);
});

let serial = 0;
async function queue(domain: string, count = 1, sender: string | null = 'ana@shop.example'): Promise<string> {
  serial += 1;
  const id = `j${serial}`;
  const recipients = Array.from({ length: count }, (_none, at) =>
    plainRecipient({ kind: 'outside', address: `r${at}@${domain}`, domain, payer: null }),
  );
  await acceptMessage(context, {
    journey: journeyOf(id, bare.clock.wall, sender),
    content: Buffer.from(`Subject: ${id}\r\n\r\nx\r\n`),
    recipients,
    steps: [],
    folder: 'Inbox',
    payer: null,
  });
  return id;
}

interface Attempt {
  host: RemoteHost;
  recipients: readonly string[];
  finish: (code: number) => void;
  break: () => void;
}

/** A deliverer whose attempts wait for the test's word. */
function deliver(hangsAfterMs = 60_000): { next: () => Promise<Attempt>; waiting: () => number } {
  const attempts: Attempt[] = [];
  const takers: ((attempt: Attempt) => void)[] = [];
  context.send = (host, envelope) =>
    new Promise<AttemptResult>((resolve) => {
      const attempt: Attempt = {
        host,
        recipients: envelope.recipients.map((one) => one.address),
        finish: (code) =>
          resolve({
            kind: 'done',
            tls: 'TLSv1.3',
            dsn: false,
            outcomes: envelope.recipients.map(({ address: recipient }) => ({
              recipient,
              kind: code < 300 ? 'taken' : code < 500 ? 'later' : 'never',
              reply: { code, text: `${Math.floor(code / 100)}.0.0 so` },
            })),
          }),
        break: () => resolve({ kind: 'unreachable', reason: 'gone', code: null }),
      };
      const taker = takers.shift();
      if (taker) taker(attempt);
      else attempts.push(attempt);
    });
  const deliverer = new Deliverer(context, () => 0.5, { hangsAfterMs, writeAgainMs: 50 });
  deliverer.wake();
  stopDeliverer = () => deliverer.stop();
  const next = (): Promise<Attempt> => {
    const ready = attempts.shift();
    return ready ? Promise.resolve(ready) : new Promise((resolve) => takers.push(resolve));
  };
  return { next, waiting: () => attempts.length };
}
const attempted = (): Promise<void> => new Promise((resolve) => context.signals.once('attempted', () => resolve()));
const states = (id: string) => listRecipients(context.db, id).map((one) => one.state);
const inbox = () =>
  Promise.all(
    context.db.all<{ file: string }>('SELECT file FROM message').map(async (row) => (await context.texts.read(row.file)).toString()),
  );

it('tries the next host when one can’t be reached, in the order of preference', async () => {
  const { next } = deliver();
  const id = await queue('a.example', 3);
  const first = await next();
  expect([first.host.name, first.recipients.length]).toEqual(['mx1.a.example', 3]);
  first.break();
  const second = await next();
  expect(second.host.name).toBe('mx2.a.example');
  const done = attempted();
  second.finish(250);
  await done;
  expect(states(id)).toEqual(['relayed', 'relayed', 'relayed']);
});

it('a stop holds what waits from its commit on, also when a crash came before the last was held; when it has ended, nothing stays held for it', async () => {
  await pause(context, 'shop.example', { sending: true, receiving: false, text: null });
  // Accepted without looking at the stop: as if it had been waiting, and the service was killed while it held the queue.
  const id = await queue('a.example', 2);
  const report = await queue('b.example', 1, null);
  await context.db.commit(() => context.db.run(`UPDATE journey SET domain = 'shop.example' WHERE id = ?`, id));
  await context.db.commit(() => context.db.run(`UPDATE journey SET kind = 'report', domain = 'shop.example' WHERE id = ?`, report));
  const held = (): (string | null)[] => listRecipients(context.db, id).map((one) => one.held);
  context.signals.emit('queue-changed');
  const { next, waiting } = deliver();
  const other = await next();
  expect(other.host.name).toBe('mx1.b.example');
  await expect.poll(held).toEqual(['pause', 'pause']);
  expect(waiting()).toBe(0);
  // Ended, and killed before the first was let go.
  await context.db.commit(() => context.db.run('DELETE FROM stop'));
  await letGoOfEndedStops(context);
  const attempt = await next();
  expect(attempt.host.name).toBe('mx1.a.example');
  expect(held()).toEqual([null, null]);
  for (const one of [other, attempt]) one.finish(250);
});

it('an act on more recipients than fit into one commit reaches all of them, once', async () => {
  for (let number = 0; number < 11; number += 1) await queue('big.example', 100);
  const count = (sql: string): number => context.db.one<{ n: number }>(sql)?.n ?? 0;
  await expect(actOnQueue(context, 'hold', { destination: 'big.example' }, 1099, '')).rejects.toMatchObject({ code: 'in-use' });
  expect(await actOnQueue(context, 'hold', { destination: 'big.example' }, 1100, 'why not')).toEqual({ recipients: 1100 });
  expect(count(`SELECT count(*) AS n FROM recipient WHERE held = 'hand'`)).toBe(1100);
  expect(count(`SELECT count(*) AS n FROM journal WHERE event = 'held-by-hand'`)).toBe(11);
  await expect(actOnQueue(context, 'hold', { destination: 'big.example' }, null, '')).rejects.toThrow('is already held');
  expect(await actOnQueue(context, 'release', { destination: 'big.example' }, null, '')).toEqual({ recipients: 1100 });
  expect(count('SELECT count(*) AS n FROM recipient WHERE held IS NULL AND next_attempt_at IS NOT NULL')).toBe(1100);
});

it('one domain’s backlog does not hold up another’s message', async () => {
  for (let number = 0; number < 150; number += 1) await queue('big.example');
  const { next } = deliver();
  const busy = await Promise.all(Array.from({ length: 2 }, next));
  expect(busy.every((one) => one.host.name === 'mx1.big.example')).toBe(true);
  const id = await queue('b.example');
  const other = await next();
  expect(other.host.name).toBe('mx1.b.example');
  const done = attempted();
  other.finish(250);
  await done;
  expect(states(id)).toEqual(['relayed']);
  // All of the backlog goes out in the end, each once.
  for (const one of busy) one.finish(250);
  for (let left = 150 - 2; left > 0; left -= 1) (await next()).finish(250);
  while (context.db.one<{ n: number }>('SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL')?.n !== 0) await attempted();
  expect(context.db.one('SELECT count(*) AS n FROM recipient WHERE attempts = 1')).toEqual({ n: 151 });
});

it('what was accepted last is reached while hundreds at hand for others wait on their servers', async () => {
  const backlogs = ['a.example', 'b.example', 'big.example'];
  for (let number = 0; number < 170; number += 1) for (const domain of backlogs) await queue(domain);
  await queue('c.example');
  const { next } = deliver();
  const busy = await Promise.all(Array.from({ length: 2 * backlogs.length + 1 }, next));
  expect(busy.filter((one) => one.host.name === 'mx1.c.example')).toHaveLength(1);
  for (const one of busy) one.finish(250);
  for (let left = 170 * 3 + 1 - busy.length; left > 0; left -= 1) (await next()).finish(250);
  while (context.db.one<{ n: number }>('SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL')?.n !== 0) await attempted();
});

it('comes back when it is due, also after a restart; after five days the sender is told', async () => {
  let running = deliver();
  const id = await queue('a.example');
  const later = async (): Promise<void> => {
    const done = attempted();
    (await running.next()).finish(451);
    await done;
  };
  await later();
  expect(listRecipients(context.db, id)).toMatchObject([{ state: 'delayed', attempts: 1, nextAttemptAt: START + 60_000 }]);
  await stopDeliverer();
  bare.pass(60_000);
  running = deliver();
  await later();
  expect(listRecipients(context.db, id)).toMatchObject([{ state: 'delayed', attempts: 2, nextAttemptAt: START + 6 * 60_000 }]);
  expect(await inbox()).toEqual([]);
  await stopDeliverer();
  bare.pass(GIVE_UP_AFTER - 60_000);
  running = deliver();
  await later();
  expect(states(id)).toEqual(['failed']);
  const [report] = await inbox();
  expect(report).toContain('Final-Recipient: rfc822; r0@a.example');
  expect(report).toContain('Status: 5.0.0');
  expect(listEntries(context.db, id).map((one) => one.event)).toEqual(['accepted', 'delayed', 'delayed', 'failed', 'reported']);
});

it('a delay is told once, when it has lasted four hours', async () => {
  const id = await queue('a.example');
  const told: number[] = [];
  for (const ms of [0, 60_000, 4 * 3_600_000 - 61_000, 1000, 4 * 3_600_000, 4 * 3_600_000]) {
    bare.pass(ms);
    await context.db.commit(() => context.db.run('UPDATE recipient SET next_attempt_at = 0 WHERE next_attempt_at IS NOT NULL'));
    const running = deliver();
    const done = attempted();
    (await running.next()).finish(451);
    await done;
    await stopDeliverer();
    told.push((await inbox()).filter((one) => one.includes('Action: delayed')).length);
  }
  expect(told).toEqual([0, 0, 0, 1, 1, 1]);
  expect(listEntries(context.db, id).filter((one) => one.event === 'reported')).toHaveLength(1);
});

it('without an outlet it waits for one to be switched on; who decides to wait at that very moment looks again at once', async () => {
  const due = (id: string): number => (listRecipients(context.db, id)[0]?.nextAttemptAt ?? 0) - START;
  await changeOutlet(context, 'direct', { isOn: false });
  const { next } = deliver();
  const looked = once(context.signals, 'attempted');
  const id = await queue('a.example');
  await looked;
  expect(due(id)).toBe(10 * 60_000);
  await changeOutlet(context, 'direct', { isOn: true });
  (await next()).finish(250);
  await once(context.signals, 'attempted');
  expect(listRecipients(context.db, id)[0]?.state).toBe('relayed');
  await stopDeliverer();

  const other = await queue('b.example');
  const [item] = listDueOf(context.db, 'b.example', START, 1);
  if (!item) throw new Error('nothing is due');
  const perRecipient = [recipientResult(item, 'wait', '4.4.4', 'no outlet is on')];
  const waits = nothingSent(perRecipient, { isOutdated: () => true });
  expect(await writeOutcome(context, waits, () => 0.5)).toBe(true);
  expect(due(other)).toBe(1000);
});

it('a report that fails is not reported; a sender who is gone is noted', async () => {
  const { next } = deliver();
  const fail = async (id: string): Promise<string[]> => {
    const done = attempted();
    (await next()).finish(550);
    await done;
    return listEntries(context.db, id).map((one) => one.event);
  };
  expect(await fail(await queue('a.example', 1, null))).toEqual(['accepted', 'failed']);
  expect(await fail(await queue('a.example', 1, 'gone@shop.example'))).toEqual(['accepted', 'failed', 'not-reported']);
  expect(await inbox()).toEqual([]);
  expect(listJournal(context.db, 'shop.example', { limit: 1, before: null }).rows[0]?.event).toBe('not-reported');
});

/** Domains whose mail all goes to one server, which says nothing. */
async function queueHung(count: number, address: (at: number) => string): Promise<void> {
  context.lookup = lookupIn([
    ['b.example', 'MX', '10 mx.b.example'],
    ['mx.b.example', 'A', '198.51.100.1'],
    ...Array.from({ length: count }, (_none, at) => [
      [`hung${at}.example`, 'MX', `10 mx.hung${at}.example`] as const,
      [`mx.hung${at}.example`, 'A', address(at)] as const,
    ]).flat(),
  ] as Parameters<typeof lookupIn>[0]);
  for (let at = 0; at < count; at += 1) for (let number = 0; number < 8; number += 1) await queue(`hung${at}.example`);
}
const isHung = (one: Attempt): boolean => one.host.name.includes('hung');

it('a server that lets us hang has a few places, whatever the domains that it has; the rest of the mail goes on', async () => {
  await queueHung(20, () => '203.0.113.50');
  const { next, waiting } = deliver(60_000);
  const hung = await Promise.all(Array.from({ length: 8 }, next));
  expect(hung.every(isHung)).toBe(true);
  const id = await queue('b.example');
  const good = await next();
  expect(good.host.name).toBe('mx.b.example');
  const done = attempted();
  good.finish(250);
  await done;
  expect(states(id)).toEqual(['relayed']);
  expect(waiting()).toBe(0);
  for (const one of hung) one.break();
});

it('a hundred servers that let us hang give their places on after a while', async () => {
  await queueHung(30, (at) => `203.0.113.${50 + at}`);
  const { next, waiting } = deliver(200);
  const hung = await Promise.all(Array.from({ length: 60 }, next));
  const id = await queue('b.example');
  let found = await next();
  while (isHung(found)) {
    hung.push(found);
    found = await next();
  }
  const done = attempted();
  found.finish(250);
  await done;
  expect(states(id)).toEqual(['relayed']);
  for (const one of hung) one.break();
  while (waiting() > 0) (await next()).break();
});

it('an answer that can’t be written down is written when it can, once, and until then nothing is sent', async () => {
  const { next, waiting } = deliver();
  const first = await queue('a.example', 2);
  const attempt = await next();
  const { db } = context;
  const commit = db.commit.bind(db);
  let isFull = true;
  let refused = 0;
  db.commit = (work, patience) => {
    if (!isFull) return commit(work, patience);
    refused += 1;
    return Promise.reject(Object.assign(new Error('database or disk is full'), { code: 'SQLITE_FULL' }));
  };
  attempt.finish(250);
  await expect.poll(() => refused).toBeGreaterThan(1);
  expect(context.space.state).toBe('full');
  context.signals.emit('mail', null);
  expect(waiting()).toBe(0);
  isFull = false;
  await expect.poll(() => states(first)).toEqual(['relayed', 'relayed']);
  expect(context.space.state).toBe('plenty');
  const other = await queue('b.example');
  (await next()).finish(250);
  await expect.poll(() => states(other)).toEqual(['relayed']);
  expect(listEntries(db, first).filter((one) => one.event === 'relayed')).toHaveLength(2);
  expect(bare.faults.splice(0)).toEqual([expect.stringContaining('a delivery result can’t be saved')]);
});
