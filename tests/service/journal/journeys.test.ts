import { afterAll, beforeAll, expect, it } from 'vitest';
import type { JournalEntry, JourneyRow } from '../../../src/api/journey-schemas.ts';
import type { LedgerView, Statement } from '../../../src/api/mail-schemas.ts';
import type { QueueItem } from '../../../src/api/queue-schemas.ts';
import type { RecipientState } from '../../../src/core/vocabulary.ts';
import { nothingAsked } from '../../../src/standins/past-journeys.ts';
import { addEntry, addJourney, addRecipient, type NewEntry } from '../../../src/store/journeys.ts';
import { charge } from '../../../src/store/ledger.ts';
import { indexJourneys } from '../../../src/store/search.ts';
import { journeyOf } from '../../support/context.ts';
import { type House, openHouse } from '../../support/house.ts';

const ACCEPTED = { outcome: 'accepted', file: null, size: 100 } as const;
const REFUSED = { outcome: 'refused', file: null, size: 100 } as const;
const SENT = { heldAt: null, payer: null, senderDomain: 'shop.example' };

let house: House;
const HOUR = 3_600_000;
const now = Date.now();

beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana']);
  await house.provide('other.example');
  const { db } = house.service.context;
  await db.commit(() => {
    const states: (RecipientState | 'refused')[] = ['relayed', 'delayed', 'failed', 'refused', 'relayed', 'delivered'];
    states.forEach((state, at) => {
      const id = `journey${at}`;
      const when = now - at * HOUR - 60_000;
      const facts = {
        id,
        at: when,
        kind: 'submitted' as const,
        client: '192.0.2.9',
        domain: at === 5 ? 'other.example' : 'shop.example',
        mailbox: 'ana@shop.example',
        messageId: `m${at}@shop.example`,
        envelopeId: null,
        returnContent: null,
        smtputf8: false,
        signsFor: null,
        isVouched: true,
        isDisowned: false,
      };
      const written = {
        ...facts,
        sender: 'ana@shop.example',
        recipients: `leo${at}@out.example`,
        subject: at === 1 ? '100%_sure' : `Subject ${at}`,
      };
      addJourney(db, written, state === 'refused' ? REFUSED : ACCEPTED);
      if (state !== 'refused')
        addRecipient(db, id, nothingAsked(true), {
          address: `leo${at}@out.example`,
          domain: 'out.example',
          state,
          nextAttemptAt: state === 'delayed' ? now + 10 * HOUR : null,
          at: when,
          ...SENT,
        });
      if (state === 'delivered' || state === 'queued') return;
      addEntry(db, {
        at: when,
        journeyId: id,
        domain: facts.domain,
        event: state,
        data: { recipient: `leo${at}@out.example`, reply: `${state} \u001b[31mred`, host: null },
      } as NewEntry);
      if (at < 3)
        charge(
          db,
          {
            customerId: 1,
            domainId: 1,
            mailboxId: at === 2 ? null : 1,
            networkId: null,
            domain: 'shop.example',
            mailbox: at === 2 ? null : 'ana@shop.example',
            kind: at === 2 ? 'forwarded' : 'submitted',
          },
          { messages: 1, sends: at + 1, bytes: 100 },
          { at: when, journeyId: id },
        );
    });
  });
  house.service.context.limits.readAnew();
});
afterAll(() => house.close());

const get = async <T>(path: string): Promise<T> => (await house.api.call<T>('GET', path)).body;
const found = async (query: string): Promise<string[]> =>
  (await get<{ rows: JourneyRow[] }>(`/journeys?${query}`)).rows.map((row) => row.id.replace('journey', ''));

const QUESTIONS: [string, string[]][] = [
  ['', ['0', '1', '2', '3', '4', '5']],
  ['domain=shop.example', ['0', '1', '2', '3', '4']],
  ['domain=OTHER.example.', ['5']],
  ['state=relayed', ['0', '4']],
  ['state=refused', ['3']],
  ['state=delayed&domain=other.example', []],
  ['search=leo2', ['2']],
  ['search=journey4', ['4']],
  ['search=100%25_s', ['1']],
  ['search=%25', ['1']],
  ['search=_', ['1']],
  ['limit=2', ['0', '1']],
  [`before=${now - 2 * HOUR - 60_000}&limit=2`, ['3', '4']],
  ['search=%27%3B%20DROP%20TABLE%20journey', []],
];
it.each(QUESTIONS)('messages by %j', async (query, ids) => {
  expect(await found(query)).toEqual(ids);
});

it('what has just come is found as it will be found tomorrow: by words of different fields, and by any recipient', async () => {
  const { db } = house.service.context;
  const many = Array.from({ length: 40 }, (_none, at) => `guest${at}@party.example`);
  const facts = {
    ...journeyOf('', 0, 'lía@other.example'),
    client: '192.0.2.9',
    domain: 'other.example',
    recipients: many.join(', '),
  };
  await db.commit(() => {
    addJourney(db, { ...facts, id: 'party', at: now - 1, subject: 'Fiesta en el Jardín' }, ACCEPTED);
    addJourney(db, { ...facts, id: 'refusedparty', at: now - 2, subject: 'Nothing' }, REFUSED);
    // Where an alias has led.
    for (const address of [...many, 'led@beyond.example'])
      addRecipient(db, 'party', nothingAsked(true), {
        address,
        domain: 'party.example',
        state: 'relayed',
        nextAttemptAt: null,
        at: now,
        ...SENT,
      });
  });
  const questions: [string, string[]][] = [
    ['jardin lia', ['party']],
    ['fiesta guest39', ['party']],
    ['GUEST39', ['party', 'refusedparty']],
    ['led@beyond', ['party']],
    ['el jar', ['party']],
    ['fiesta nobody', []],
    ['e jardin', []],
  ];
  const asked = () => Promise.all(questions.map(async ([text]) => [text, await found(`search=${encodeURIComponent(text)}`)]));
  expect(await asked()).toEqual(questions);
  // The newest are far from the others, on another shelf of the index, with an empty one between.
  await db.commit(() => db.run("UPDATE journey SET rowid = rowid + 250000 WHERE id IN ('party', 'refusedparty')"));
  // The first of them came while the clock was younger than the others’ dates: none is left out because of it.
  expect(await db.commit(() => indexJourneys(db, now - 3 * HOUR, 100))).toBe(0);
  expect(await asked()).toEqual(questions);
  while ((await db.commit(() => indexJourneys(db, now + HOUR, 2))) > 0);
  expect(await asked()).toEqual(questions);
  for (const [query, ids] of QUESTIONS.filter(([query]) => /^search=.*[a-z0-9]/.test(decodeURIComponent(query))))
    expect([query, await found(query)]).toEqual([query, ids]);
  const { rows } = await get<{ rows: JourneyRow[] }>('/journeys?search=refusedparty');
  expect(rows[0]?.recipients).toBe(`${many.slice(0, 20).join(', ')} and 20 more`);
});

it('pages of messages, one after the other, are all of them, also where many came in one millisecond', async () => {
  const { db } = house.service.context;
  const at = now - 90 * HOUR;
  const facts = {
    ...journeyOf('', at, 'burst@far.example'),
    kind: 'received' as const,
    client: '203.0.113.5',
    domain: 'other.example',
    recipients: 'x@other.example',
    subject: 'Burst',
  };
  await db.commit(() => {
    for (let number = 0; number < 330; number += 1)
      addJourney(db, { ...facts, id: `outburst${number}`, at: at - Math.floor(number / 110) }, ACCEPTED);
  });
  for (const asked of ['client=203.0.113.5', 'search=burst@far.example', 'search=outburst', 'domain=other.example&client=203.0.113.5']) {
    const seen: string[] = [];
    for (let before: number | null = null; ; ) {
      const { rows }: { rows: JourneyRow[] } = await get<{ rows: JourneyRow[] }>(
        `/journeys?${asked}&limit=50${before === null ? '' : `&before=${before}`}`,
      );
      if (rows.length === 0) break;
      seen.push(...rows.map((row) => row.id));
      before = rows.at(-1)?.at ?? 0;
    }
    expect([seen.length, new Set(seen).size], asked).toEqual([330, 330]);
  }
});

it('a row says what is not well, a journey says it in words without control characters', async () => {
  const { rows } = await get<{ rows: JourneyRow[] }>('/journeys?state=refused&search=journey3');
  expect(rows[0]?.trouble).toContain('refused');
  const view = await get<{ entries: { text: string }[] }>('/journeys/journey2');
  expect(view.entries[0]?.text).toBe('leo2@out.example: failed �[31mred');
});

it('the queue is what waits; the journal is by domain, newest first', async () => {
  expect((await get<{ rows: QueueItem[] }>('/queue')).rows.map((one) => one.journeyId)).toEqual(['journey1']);
  const { rows } = await get<{ rows: JournalEntry[] }>('/journal?domain=other.example&limit=10');
  expect(rows.every((row) => row.domain === 'other.example')).toBe(true);
  const times = (await get<{ rows: JournalEntry[] }>('/journal?limit=100')).rows.map((row) => row.at);
  expect(times).toEqual([...times].sort((one, other) => other - one));
});

it('the ledger sums what was charged in its time, hour by hour, newest first; the statement says the same', async () => {
  const day = await get<LedgerView>('/ledger/shop.example');
  expect(day.total).toEqual({ messages: 3, sends: 6, bytes: 300 });
  expect(day.lines.map((line) => [line.journeyId, line.sends, line.mailbox, line.kind])).toEqual([
    ['journey0', 1, 'ana@shop.example', 'submitted'],
    ['journey1', 2, 'ana@shop.example', 'submitted'],
    ['journey2', 3, null, 'forwarded'],
  ]);
  expect(day.hours.reduce((sum, one) => sum + one.sends, 0)).toBe(6);
  expect((await get<LedgerView>('/ledger/shop.example?days=0.05')).total.sends).toBe(3);
  expect((await get<LedgerView>('/ledger/ana@shop.example')).total.sends).toBe(3);
  for (const scope of ['server', 'customer:Customer']) expect((await get<LedgerView>(`/ledger/${scope}`)).total.sends, scope).toBe(6);
  expect((await house.api.call('GET', '/ledger/shop.example?days=-1')).status).toBe(422);
  const from = new Date(now - 3 * HOUR).toISOString().slice(0, 10);
  const statement = await get<Statement>(`/statements/shop.example?from=${from}`);
  expect(statement).toMatchObject({ total: day.total, forwarded: { messages: 1, sends: 3, bytes: 100 }, zone: 'UTC' });
  for (const parts of [statement.days, statement.parts]) expect(parts.reduce((sum, one) => sum + one.sends, 0)).toBe(6);
  const { csv } = await get<{ csv: string }>(`/statements/shop.example/csv?from=${from}`);
  const rows = csv.trimEnd().split('\r\n');
  expect(rows[0]).toBe('by,name,kind,messages,sends,bytes');
  expect(rows.at(-1)).toBe('total,shop.example,,3,6,300');
  expect(rows).toContain('mailbox,ana@shop.example,submitted,2,3,200');
  expect(rows.filter((row) => row.startsWith('day,')).length).toBe(statement.days.length);
  for (const query of ['from=yesterday', 'from=2026-12-01&to=2026-11-01', 'from=2020-01-01'])
    expect((await house.api.call('GET', `/statements/shop.example?${query}`)).status, query).toBe(422);
});
