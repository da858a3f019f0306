import { EventEmitter } from 'node:events';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { GIVE_UP_AFTER } from '../../src/core/retry/schedule.ts';
import type { Destination } from '../../src/core/routing/recipients.ts';
import { acceptMessage } from '../../src/service/accept-message.ts';
import type { ServiceContext } from '../../src/service/context.ts';
import { addCustomer, addPlan } from '../../src/service/customers.ts';
import { type AttemptResult, Deliverer, type RemoteHost } from '../../src/service/deliver.ts';
import { addDomain } from '../../src/service/domains.ts';
import { LimitKeeper } from '../../src/service/limits.ts';
import { addMailbox } from '../../src/service/mailboxes.ts';
import { Metrics } from '../../src/service/metrics.ts';
import { SignInGuard } from '../../src/service/sign-in-guard.ts';
import { SigningKeys } from '../../src/service/signing-keys.ts';
import { Database } from '../../src/store/database.ts';
import { listEntries, listJournal, listRecipients } from '../../src/store/journeys.ts';
import { MessageFiles } from '../../src/store/message-files.ts';
import { MessageTexts } from '../../src/store/message-texts.ts';
import { lookupIn } from '../support/lookup.ts';

const START = 1_790_000_000_000;
let folder: string;
let now: number;
let context: ServiceContext;
let stopDeliverer: () => Promise<void>;

beforeEach(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-deliver-'));
  now = START;
  const db = Database.open(folder);
  const clock = { now: () => now, steady: () => now };
  const log = { info: () => {}, warn: () => {}, error: (_data: object, text: string) => void faults.push(text) };
  context = {
    db,
    texts: new MessageTexts(db, new MessageFiles(folder), () => {}),
    clock,
    host: { name: 'mail.host.example', addresses: ['192.0.2.25'], postmaster: 'post@shop.example', maxMessageBytes: 1e6, blockLists: [] },
    lookup: lookupIn(
      ['a', 'b', 'big'].flatMap((name) => [
        [`${name}.example`, 'MX', `10 mx1.${name}.example`],
        [`${name}.example`, 'MX', `20 mx2.${name}.example`],
        [`mx1.${name}.example`, 'A', '203.0.113.1'],
        [`mx2.${name}.example`, 'A', '203.0.113.2'],
      ]) as Parameters<typeof lookupIn>[0],
    ),
    dns: noDns,
    log,
    limits: new LimitKeeper(db, clock),
    keys: new SigningKeys(db),
    signals: new EventEmitter(),
    metrics: new Metrics(db),
    guards: { mailboxes: new SignInGuard(), console: new SignInGuard() },
    openMailboxes: new Set(),
    checkRuns: { latest: null },
    checkEveryMs: 0,
    random: () => 0.5,
    version: 'test',
  };
  await addPlan(context, { name: 'p', hourLimit: null, dayLimit: null, quotaBytes: 1e9, mostMailboxes: 9 });
  await addCustomer(context, 'c');
  await addDomain(context, { name: 'shop.example', customer: 'c', plan: 'p', role: 'home' });
  await addMailbox(context, { address: 'ana@shop.example', password: null, quotaBytes: null });
});
/** Delivery needs nothing of this. */
const unused = (): never => {
  throw new Error('not for delivery');
};
const noDns = { forget: () => {}, openViews: unused, openServer: unused, update: unused, greeting: unused, routes: () => [] };
const faults: string[] = [];
afterEach(async () => {
  await stopDeliverer?.();
  context.db.close();
  rmSync(folder, { recursive: true });
  expect(faults).toEqual([]);
});

let serial = 0;
async function queue(domain: string, count = 1, sender: string | null = 'ana@shop.example'): Promise<string> {
  serial += 1;
  const id = `j${serial}`;
  const destinations = Array.from(
    { length: count },
    (_none, at): Destination => ({ kind: 'outside', address: `r${at}@${domain}`, domain }),
  );
  await acceptMessage(context, {
    journey: { id, at: now, kind: 'submitted', sender, recipients: domain, subject: '', client: 'test', domain: 'shop.example' },
    content: Buffer.from(`Subject: ${id}\r\n\r\nx\r\n`),
    destinations,
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
function deliver(): { next: () => Promise<Attempt>; waiting: () => number } {
  const attempts: Attempt[] = [];
  const takers: ((attempt: Attempt) => void)[] = [];
  const deliverer = new Deliverer(
    context,
    (host, envelope) =>
      new Promise<AttemptResult>((resolve) => {
        const attempt: Attempt = {
          host,
          recipients: envelope.recipients,
          finish: (code) =>
            resolve({
              kind: 'done',
              secure: true,
              outcomes: envelope.recipients.map((recipient) => ({
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
      }),
    () => 0.5,
  );
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
  context.db.all<{ file: string }>('SELECT file FROM stored_message').map((row) => context.texts.read(row.file).toString());

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

it('one domain’s backlog does not hold up another’s message', async () => {
  for (let number = 0; number < 150; number += 1) await queue('big.example');
  const { next } = deliver();
  const busy = await Promise.all(Array.from({ length: 8 }, next));
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
  for (let left = 150 - 8; left > 0; left -= 1) (await next()).finish(250);
  while (context.db.one<{ n: number }>('SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL')?.n !== 0) await attempted();
  expect(context.db.one('SELECT count(*) AS n FROM recipient WHERE attempts = 1')).toEqual({ n: 151 });
});

it('comes back when it is due, also after a restart; after four days the sender is told', async () => {
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
  now += 60_000;
  running = deliver();
  await later();
  expect(listRecipients(context.db, id)).toMatchObject([{ state: 'delayed', attempts: 2, nextAttemptAt: now + 5 * 60_000 }]);
  expect(inbox()).toEqual([]);
  await stopDeliverer();
  now = START + GIVE_UP_AFTER;
  running = deliver();
  await later();
  expect(states(id)).toEqual(['failed']);
  const [report] = inbox();
  expect(report).toContain('Final-Recipient: rfc822; r0@a.example');
  expect(report).toContain('Status: 5.0.0');
  expect(listEntries(context.db, id).map((one) => one.event)).toEqual(['accepted', 'delayed', 'delayed', 'failed', 'reported']);
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
  expect(inbox()).toEqual([]);
  expect(listJournal(context.db, 'shop.example', 1)[0]?.event).toBe('not-reported');
});
