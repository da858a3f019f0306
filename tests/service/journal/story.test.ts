import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { JourneyRow } from '../../../src/api/journey-schemas.ts';
import type { Explanation } from '../../../src/api/mail-schemas.ts';
import { Archive } from '../../../src/service/journal/archive.ts';
import { addEntry, newestEntry } from '../../../src/store/journeys.ts';
import { idOf, openTown, send, type Town } from '../../support/town.ts';

let town: Town;
const DAY = 24 * 3_600_000;
beforeAll(async () => {
  town = await openTown();
  await town.house.provide('house.example', ['post']);
  await town.house.provide('shop.example', ['ana', 'li']);
  await town.house.api.call('POST', '/aliases', { address: 'all@shop.example', targets: ['li@shop.example', 'far@open.example'] });
});
afterAll(() => town.close());

const context = () => town.house.service.context;
const local = async (subject: string, id = 'x1@shop.example'): Promise<string> => {
  const talk = await town.signedIn('ana@shop.example');
  const reply = await send(
    talk,
    'ana@shop.example',
    'li@shop.example',
    `From: ana@shop.example\r\nSubject: ${subject}\r\nMessage-ID: <${id}>\r\n\r\nx\r\n`,
  );
  talk.end();
  return idOf(reply);
};

describe('the live journal', () => {
  /** Reads events of the stream until `enough`, then hangs up. */
  async function listen(query: string, lastId: string | null, enough: (events: { event: string; text: string }[]) => boolean) {
    const abort = new AbortController();
    const response = await fetch(`${town.house.api.url}/api/v1/journal/live?${query}`, {
      signal: abort.signal,
      headers: { authorization: `Bearer ${town.house.token}`, ...(lastId === null ? {} : { 'last-event-id': lastId }) },
    });
    const entries: { event: string; text: string; journeyId: string }[] = [];
    let place = '';
    let text = '';
    const decoder = new TextDecoder();
    for await (const bytes of response.body as unknown as AsyncIterable<Uint8Array>) {
      text += decoder.decode(bytes, { stream: true });
      for (let end = text.indexOf('\n\n'); end >= 0; end = text.indexOf('\n\n')) {
        const event = text.slice(0, end);
        text = text.slice(end + 2);
        place = /^id: (\d+)$/m.exec(event)?.[1] ?? place;
        const data = /^event: entry\ndata: (.*)$/m.exec(event)?.[1];
        if (data !== undefined) entries.push(JSON.parse(data));
      }
      if (enough(entries)) break;
    }
    abort.abort();
    return { entries, place };
  }

  it('shows lines as they happen, and after a lost line everything that was missed, once', async () => {
    const from = newestEntry(context().db);
    const first = await local('one');
    const heard = await listen(`after=${from}`, null, (all) => all.some((one) => one.event === 'delivered'));
    expect(heard.entries.filter((one) => one.journeyId === first).map((one) => one.event)).toEqual([
      'connected',
      'amended',
      'accepted',
      'delivered',
    ]);
    const second = await local('two');
    const third = await local('three');
    const again = await listen('', heard.place, (all) => all.filter((one) => one.event === 'delivered').length === 2);
    expect([...new Set(again.entries.map((one) => one.journeyId))]).toEqual([second, third]);
    const filtered = await listen(`after=${from}&search=Inbox&domain=shop.example`, null, (all) => all.length === 3);
    expect(filtered.entries.map((one) => one.event)).toEqual(['delivered', 'delivered', 'delivered']);
    expect((await fetch(`${town.house.api.url}/api/v1/journal/live`)).status).toBe(401);
  });

  it('many readers and a burst: each hears every entry in its order', async () => {
    const { db, clock } = context();
    const from = newestEntry(db);
    const readers = Promise.all(Array.from({ length: 5 }, () => listen(`after=${from}`, null, (all) => all.length === 1200)));
    for (let at = 0; at < 12; at += 1)
      await db.commit(() => {
        for (let number = 0; number < 100; number += 1)
          addEntry(db, {
            at: clock.now(),
            journeyId: null,
            domain: null,
            event: 'notice',
            data: { to: `${at * 100 + number}`, subject: 'x'.repeat(200) },
          });
      });
    for (const { entries } of await readers)
      expect(entries.map((one) => Number(/^\d+/.exec(one.text)?.[0]))).toEqual(Array.from({ length: 1200 }, (_none, at) => at));
  });
});

describe('search', () => {
  const found = async (query: Record<string, string>): Promise<string[]> =>
    (await town.house.api.call<{ rows: JourneyRow[] }>('GET', `/journeys?${new URLSearchParams(query)}`)).body.rows.map((row) => row.id);
  const questions = (id: string): Record<string, string>[] => [
    { search: 'Moonlit' },
    { search: 'moonl harb' },
    { search: 'moon-77@shop.example' },
    { search: '<moon-77@shop.example>' },
    { search: 'ana@shop.example moonlit' },
    { search: id },
    { search: 'moonlit', domain: 'shop.example', state: 'delivered' },
    { search: 'moonlit', since: '0', before: '99999999999999' },
  ];

  it('finds by subject, address, Message-ID and journey, before and after it is in the index', async () => {
    const id = await local('Moonlit harbour walk', 'moon-77@shop.example');
    const direct = ['Moonlit', 'moon-77@shop.example', id, 'harbour walk'];
    for (const search of direct) expect(await found({ search }), search).toEqual([id]);
    const { db } = context();
    // Ten minutes later it is settled.
    await db.commit(() => db.run('UPDATE journey SET at = at - ? WHERE id = ?', 11 * 60_000, id));
    const archive = new Archive(context(), { keepDays: 400, mostEntries: 1_000_000, ledgerDays: 1100 });
    await db.commit(() => db.run('UPDATE journey SET at = at - ?', 11 * 60_000));
    while (await archive.work());
    for (const question of questions(id)) expect(await found(question), JSON.stringify(question)).toEqual([id]);
    for (const question of [
      { search: 'moonshine' },
      { search: 'moonlit', state: 'failed' },
      { search: 'moonlit', client: '192.0.2.1' },
      { search: 'moonlit" OR "x' },
    ])
      expect(await found(question), JSON.stringify(question)).toEqual([]);
  });

  it('what is older than it is kept goes, with its entries and words; what waits stays', async () => {
    const { db, clock } = context();
    const old = await local('Ancient history');
    const talk = await town.signedIn('ana@shop.example');
    const waiting = idOf(
      await send(talk, 'ana@shop.example', 'leo@slow.example', 'From: ana@shop.example\r\nSubject: Ancient wait\r\n\r\nx\r\n'),
    );
    talk.end();
    await db.commit(() => {
      db.run('UPDATE journey SET at = at - ? WHERE id IN (?, ?)', 500 * DAY, old, waiting);
      addEntry(db, { at: clock.now() - 500 * DAY, journeyId: null, domain: null, event: 'domain-removed', data: {} });
      // The newest entry always stays.
      addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'domain-removed', data: {} });
    });
    const archive = new Archive(context(), { keepDays: 400, mostEntries: 1_000_000, ledgerDays: 1100 });
    while (await archive.work());
    expect(await found({ search: 'Ancient' })).toEqual([waiting]);
    expect(db.one('SELECT count(*) AS n FROM journal WHERE journey_id = ?', old)).toEqual({ n: 0 });
    expect(db.one('SELECT count(*) AS n FROM journal WHERE at < ? AND journey_id IS NULL', clock.now() - 400 * DAY)).toEqual({ n: 0 });
    // By size: of so many entries only the newest are kept.
    const small = new Archive(context(), { keepDays: 400, mostEntries: 50, ledgerDays: 1100 });
    await db.commit(() => db.run('UPDATE journal SET at = at - ? WHERE seq < (SELECT max(seq) - 60 FROM journal)', DAY));
    while (await small.work());
    expect(db.one<{ n: number }>('SELECT count(*) AS n FROM journal WHERE journey_id IS NULL')?.n).toBeLessThan(100);
  });
});

it('a journey as text has the whole way, and nothing that steers a terminal', async () => {
  const id = await local('Text \u001b[31mred', 'text-1@shop.example');
  const { body } = await town.house.api.call<{ text: string }>('GET', `/journeys/${id}/text`);
  for (const part of [
    `Journey ${id}`,
    'From:       ana@shop.example',
    '<text-1@shop.example>',
    'signed in as ana@shop.example',
    'into Inbox',
    'li@shop.example: delivered',
  ])
    expect(body.text).toContain(part);
  expect(body.text).not.toContain('\u001b');
});

describe('explain', () => {
  const ask = async (query: Record<string, string>): Promise<Explanation> =>
    (await town.house.api.call<Explanation>('GET', `/explain?${new URLSearchParams(query)}`)).body;
  const rules = (one: Explanation): string[] => one.steps.map((step) => `${step.step}:${step.verdict}`);

  it.each([
    [{ from: 'x@far.example', to: 'nobody@elsewhere.example' }, 'refused', 'not a domain of this server: no relaying'],
    [{ from: 'x@far.example', to: 'nobody@shop.example' }, 'refused', 'no mailbox, alias or catch-all'],
    [{ from: 'li@shop.example', to: 'a@open.example', as: 'ana@shop.example' }, 'refused', 'a sender may use only its own addresses'],
    [{ from: 'x@far.example', to: 'li+news@shop.example' }, 'accepted', 'mailbox'],
    [{ from: '', to: 'li@shop.example', ip: '203.0.113.20' }, 'accepted', 'mailbox'],
    [{ from: 'ana@shop.example', to: 'a@open.example', as: 'ana@shop.example' }, 'accepted', 'outlet direct'],
    [{ from: 'ana@shop.example', to: 'a@nowhere.example', as: 'ana@shop.example' }, 'accepted', 'outlet direct'],
  ] as const)('%j: %s by %j', async (query, outcome, rule) => {
    const result = await ask(query as Record<string, string>);
    expect(result.outcome).toBe(outcome);
    expect(result.steps.at(-1)?.rule).toBe(rule);
  });

  it('follows aliases outward, tells the limit, and charges nothing', async () => {
    await town.house.api.call('PUT', '/limits/shop.example', { limits: [{ period: 'day', quantity: 'sends', amount: 5 }] });
    const once = await ask({ from: 'x@far.example', to: 'all@shop.example', ip: '203.0.113.20' });
    expect(rules(once), JSON.stringify(once.steps)).toEqual([
      'client:on',
      'recipient:on',
      'recipient:on',
      'limit:on',
      'judgement:on',
      'judgement:note',
      'way:on',
      'end:on',
    ]);
    expect(await ask({ from: 'x@far.example', to: 'all@shop.example', ip: '203.0.113.20' })).toEqual(once);
    await town.house.api.call('PUT', '/limits/shop.example', { limits: [{ period: 'day', quantity: 'sends', amount: 0 }] });
    expect(await ask({ from: 'ana@shop.example', to: 'a@open.example', as: 'ana@shop.example' })).toMatchObject({
      outcome: 'refused',
      steps: [{}, {}, {}, { step: 'limit', verdict: 'stop' }],
    });
    await town.house.api.call('POST', '/stops', { scope: 'ana@shop.example', text: 'gone fishing' });
    expect((await ask({ from: 'ana@shop.example', to: 'a@open.example', as: 'ana@shop.example' })).steps.at(-1)).toMatchObject({
      text: '450 4.7.1 gone fishing',
      rule: 'pause',
    });
    const { total } = (await town.house.api.call<{ total: object }>('GET', '/ledger/shop.example')).body;
    expect(total).toMatchObject({ sends: 1 });
  });

  it.each([
    [{ from: 'nonsense', to: 'a@b.example' }, 'from'],
    [{ from: 'a@b.example', to: '' }, 'to'],
    [{ from: 'a@b.example', to: 'c@d.example', ip: 'here' }, 'ip'],
  ])('%j is refused at %s', async (query, field) => {
    expect((await town.house.api.call('GET', `/explain?${new URLSearchParams(query as Record<string, string>)}`)).body.field).toBe(field);
  });
});
