import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { postmasterTrouble } from '../../src/service/acceptance/routing.ts';
import { explain } from '../../src/service/overview/explain.ts';
import { listRecipients } from '../../src/store/journeys.ts';
import { countQueue } from '../../src/store/queue.ts';
import type { Talk } from '../support/talk.ts';
import { idOf, openTown, send, type Town } from '../support/town.ts';

const STRANGER = '203.0.113.20';
const LISTED = '203.0.113.99';
const FORWARDER = '198.51.100.70';
const OFFICE = '198.51.100.40';

let town: Town;
beforeAll(async () => {
  town = await openTown({ lists: 'refuse_listed = ["blocks.example"]' });
  const { house } = town;
  const must = async (method: string, path: string, body: unknown): Promise<void> => {
    const { status, body: answer } = await house.api.call(method, path, body);
    if (status >= 400) throw new Error(`${path}: ${JSON.stringify(answer)}`);
  };
  // Where the host's postmaster is.
  house.dns.publish({ name: 'house.example', type: 'MX', value: '10 mx.open.example' });
  // The service has asked for it at its start.
  await postmasterTrouble(house.service.context);
  house.service.context.dns.forget();
  await house.provide('shop.example', ['ana', 'li', 'full']);
  await house.provide('club.example', ['kim']);
  await house.provide('tight.example', ['ben']);
  await house.provide('patient.example', ['pat']);
  await house.provide('mute.example', ['moe']);
  await house.provide('deaf.example', ['dot']);
  await must('POST', '/domains', { name: 'sister.example', customer: 'Customer' });
  await must('PUT', '/domains/sister.example/twin', { of: 'shop.example' });
  await must('POST', '/domains', { name: 'web.example', customer: 'Customer', role: 'away' });
  await must('POST', '/domains', { name: 'kept.example', customer: 'Customer', role: 'standby', primaryServer: '203.0.113.30' });
  await must('PATCH', '/domains/kept.example', { recipientList: ['kay'] });
  for (const [address, ...targets] of [
    ['all@shop.example', 'far@open.example', 'near@open.example', 'li@shop.example'],
    ['out@shop.example', 'far@open.example'],
    ['out@tight.example', 'far@open.example'],
    ['two@club.example', 'kay@kept.example', 'ana@shop.example'],
    ['to-deaf@shop.example', 'dot@deaf.example'],
    ['out@deaf.example', 'ana@shop.example'],
  ])
    await must('POST', '/aliases', { address, targets });
  await must('PATCH', '/domains/club.example', { catchAll: 'kim@club.example' });
  await must('PUT', '/limits/shop.example', { limits: [{ period: 'day', quantity: 'sends', amount: 1 }] });
  await must('PUT', '/limits/tight.example', { limits: [{ period: 'day', quantity: 'sends', amount: 0 }] });
  await must('PUT', '/limits/patient.example', { whenFull: 'hold', limits: [{ period: 'day', quantity: 'sends', amount: 1 }] });
  await must('POST', '/stops', { scope: 'mute.example', sending: true, receiving: false, text: 'Mute for now' });
  await must('POST', '/stops', { scope: 'deaf.example', sending: false, receiving: true, text: 'Deaf for now' });
  await must('POST', '/networks', { cidr: '198.51.100.32/28', maySubmit: true, domains: ['shop.example', 'tight.example'] });
  await must('POST', '/networks', { cidr: '198.51.100.64/28', note: 'a forwarder' });
  const { db } = house.service.context;
  await db.commit(() => db.run(`UPDATE kept_mailbox SET quota_bytes = 0 WHERE local = 'full'`));
  // The one send that patient.example has.
  const filed = town.open.nextFiled();
  const talk = await town.signedIn('pat@patient.example');
  const first = idOf(await send(talk, 'pat@patient.example', 'far@open.example'));
  talk.end();
  await filed;
  if (listRecipients(db, first)[0]?.state !== 'relayed') await town.attempted(first);
  house.dns.publish({ name: '99.113.0.203.blocks.example', type: 'A', value: '127.0.0.2' });
});
afterAll(() => town.close());

const ASKERS: { ip?: string; as?: string }[] = [
  { ip: STRANGER },
  { ip: LISTED },
  { ip: FORWARDER },
  { ip: OFFICE },
  { as: 'ana@shop.example' },
  { as: 'ben@tight.example' },
  { as: 'pat@patient.example' },
  { as: 'moe@mute.example' },
];
const SENDERS = [
  '',
  'ana@shop.example',
  'Ana+news@shop.example',
  'ana@sister.example',
  'ben@tight.example',
  'pat@patient.example',
  'moe@mute.example',
  'mar@open.example',
];
const RECIPIENTS = [
  'ana@shop.example',
  'LI+tag@shop.example',
  'li@sister.example',
  'nobody@shop.example',
  'nobody@sister.example',
  'postmaster@shop.example',
  'abuse@mail.host.example',
  'full@shop.example',
  'all@shop.example',
  'out@shop.example',
  'out@sister.example',
  'out@tight.example',
  'whoever@club.example',
  'two@club.example',
  'dot@deaf.example',
  'to-deaf@shop.example',
  'out@deaf.example',
  'moe@mute.example',
  'kay@kept.example',
  'nobody@kept.example',
  'x@web.example',
  'far@open.example',
  'postmaster',
  'postmaster@[192.0.2.25]',
  'Postmaster@[IPv6:2001:db8:25::25]',
  'back.jabc.aaaaaaaaaaaaaaaa@shop.example',
];

/** Up to RCPT, as a client of that kind; the transaction is given up. */
async function asked(talk: Talk, from: string, to: string): Promise<string> {
  const sender = await talk.say(`MAIL FROM:<${from}>`);
  const reply = sender.startsWith('250') ? await talk.say(`RCPT TO:<${to}>`) : sender;
  await talk.say('RSET');
  return reply.trim();
}

/** What leads outside, be it by an alias of another domain or the host's own postmaster: whoever submits pays. `all` leads to two, more than the limit ever has room for. */
const OUTSIDE = [
  'postmaster',
  'postmaster@[192.0.2.25]',
  'Postmaster@[IPv6:2001:db8:25::25]',
  'postmaster@shop.example',
  'abuse@mail.host.example',
  'out@shop.example',
  'out@sister.example',
  'out@tight.example',
  'x@web.example',
  'far@open.example',
];

const timeless = (text: string): string => text.replace(/\d{4}-\d\d-\d\d \d\d:\d\d:\d\d/, 'TIME');

describe.each(ASKERS)('for %j', (asker) => {
  it('explain says what the port then says, for every sender and recipient', async () => {
    const { context } = town.house.service;
    const open = async (): Promise<Talk> => {
      if (asker.as) return town.signedIn(asker.as);
      const talk = await town.from(asker.ip ?? '');
      await talk.say('EHLO client.example');
      return talk;
    };
    const told: Record<string, Set<string>> = { accepted: new Set(), refused: new Set(), held: new Set() };
    for (const from of SENDERS) {
      // A talk of its own: who is refused too often is shown the door.
      const talk = await open();
      for (const to of RECIPIENTS) {
        const { outcome, steps } = await explain(context, { from, to, ip: asker.ip ?? null, as: asker.as ?? null });
        const reply = await asked(talk, from, to);
        const last = steps.at(-1);
        const said = outcome === 'refused' ? last?.text : '250 2.1.5 Recipient noted';
        expect(timeless(reply), `${from} to ${to}: ${JSON.stringify(steps)}`).toBe(timeless(said ?? ''));
        expect(last?.verdict === 'stop').toBe(outcome === 'refused');
        told[outcome]?.add(to);
      }
      talk.end();
    }
    // Nothing was promised, kept or sent on the way.
    for (const [domain, sends] of [
      ['shop.example', 0],
      ['tight.example', 0],
      ['patient.example', 1],
    ] as const) {
      const { limits } = (await town.house.api.call<{ limits: { used: number; reserved: number }[] }>('GET', `/limits/${domain}`)).body;
      expect(limits.map(({ used, reserved }) => [used, reserved])).toEqual([[sends, 0]]);
    }
    expect(countQueue(context.db)).toBe(0);
    expect(told['refused']?.size).toBeGreaterThan(10);
    expect((told['accepted']?.size ?? 0) > 0).toBe(asker.as !== 'moe@mute.example');
    expect([...(told['held'] ?? [])].sort()).toEqual(asker.as === 'pat@patient.example' ? OUTSIDE.toSorted() : []);
  });
});

it('what it says would be held is held', async () => {
  const { context } = town.house.service;
  const question = { from: 'pat@patient.example', to: 'far@open.example', ip: null, as: 'pat@patient.example' };
  expect(await explain(context, question)).toMatchObject({ outcome: 'held' });
  const talk = await town.signedIn(question.as);
  const id = idOf(await send(talk, question.from, question.to));
  talk.end();
  expect(listRecipients(context.db, id)).toMatchObject([{ state: 'queued', held: 'limit' }]);
  expect((await explain(context, question)).steps.find((one) => one.step === 'limit')).toMatchObject({
    rule: 'when full: hold',
    text: expect.stringMatching(/1 recipient waits for room, which there is again at \d{4}-\d\d-\d\d \d\d:\d\d UTC$/),
  });
});

it('whoever asks takes nobody’s room, however long the name servers take', async () => {
  const { house } = town;
  house.dns.silent.add('quiet.example');
  const asking = explain(house.service.context, { from: 'ana@shop.example', to: 'x@quiet.example', ip: null, as: 'ana@shop.example' });
  // The one send of shop.example goes to somebody who sends, while the question is still open.
  const talk = await town.signedIn('ana@shop.example');
  expect(await asked(talk, 'ana@shop.example', 'far@open.example')).toMatch(/^250/);
  talk.end();
  const { outcome, steps } = await asking;
  house.dns.silent.delete('quiet.example');
  expect([outcome, steps.at(-1)?.verdict]).toEqual(['accepted', 'note']);
});
