import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { PROJECT } from '../../src/project.ts';
import { nothingAsked } from '../../src/standins/past-journeys.ts';
import { Database } from '../../src/store/database.ts';
import { addEntry, addJourney, addRecipient, addSteps, type JourneyFacts } from '../../src/store/journeys.ts';
import { findJourneys, indexJourneys, type JourneyQuery, journeyRows } from '../../src/store/search.ts';

const NOW = 1_790_000_000_000;
/** Events of one message here: five steps of its acceptance, and one attempt. */
const EVENTS = 6;
const AT_ONCE = 5000;
const WORDS = 'harbour lantern winter order invoice meeting ticket garden bread letter museum route concert paper colour'.split(' ');
const DOMAINS = 500;
const ANY: JourneyQuery = { search: '', domain: null, state: null, client: null, since: null, before: null, limit: 50 };

/** What an administrator asks: an address, a Message-ID, words of a subject, a domain, a client, a state, a time. */
const QUESTIONS: JourneyQuery[] = [
  { ...ANY, search: 'reader77@out33.example' },
  { ...ANY, search: 'm4242@d42.example' },
  { ...ANY, search: 'winter lant' },
  { ...ANY, search: 'd7.example invoice' },
  { ...ANY, search: 'rea' },
  { ...ANY, search: 'reader' },
  { ...ANY, search: 'reader9' },
  { ...ANY, search: 'winter', domain: 'd77.example' },
  { ...ANY, search: 'winter', domain: 'nobody.example' },
  { ...ANY, domain: 'nobody.example' },
  { ...ANY, domain: 'd77.example' },
  { ...ANY, domain: 'd77.example', state: 'failed' },
  { ...ANY, client: '198.51.100.7' },
  { ...ANY, state: 'failed' },
  { ...ANY, state: 'delayed' },
  { ...ANY, state: 'refused' },
  { ...ANY, before: NOW - 200 * 24 * 3_600_000 },
  ANY,
];

async function fill(events: number): Promise<{ db: Database; folder: string }> {
  const folder = join(PROJECT, `.bench-search-${events}`);
  rmSync(folder, { recursive: true, force: true });
  const db = Database.open(folder);
  const messages = Math.floor(events / EVENTS);
  for (let from = 0; from < messages; from += AT_ONCE)
    await db.commit(() => {
      for (let number = from; number < Math.min(messages, from + AT_ONCE); number += 1)
        message(db, number, NOW - (messages - number) * 15_000);
    });
  while ((await db.commit(() => indexJourneys(db, NOW, AT_ONCE))) === AT_ONCE);
  return { db, folder };
}

function message(db: Database, number: number, at: number): void {
  const id = `j${number.toString(36)}`;
  const domain = `d${number % DOMAINS}.example`;
  const sender = `user${number % 7}@${domain}`;
  const outside = `out${number % 89}.example`;
  const address = `reader${number % 997}@${outside}`;
  const isRefused = number % 50 === 0;
  const state = number % 400 === 1 ? 'failed' : number % 9000 === 2 ? 'delayed' : 'relayed';
  const journey: JourneyFacts = {
    id,
    at,
    kind: 'submitted',
    sender,
    recipients: address,
    subject: `${WORDS[number % 15]} ${WORDS[(number >> 4) % 15]} ${number}`,
    client: `198.51.100.${number % 200}`,
    domain,
    mailbox: sender,
    messageId: `m${number}@${domain}`,
    envelopeId: null,
    returnContent: null,
    smtputf8: false,
    signsFor: null,
    isVouched: true,
    isDisowned: false,
  };
  addJourney(db, journey, { outcome: isRefused ? 'refused' : 'accepted', file: null, size: 4000 });
  addSteps(db, id, domain, [
    { at, event: 'connected', data: { client: '', helo: '', service: '', tls: true, user: null } },
    { at, event: 'expanded', data: { recipient: address, through: [], to: [] } },
    { at, event: 'signed', data: { domain: outside, selector: 's' } },
    { at, event: 'accepted', data: { size: 1, recipients: 1 } },
    { at, event: 'charged', data: { messages: 1, sends: 1, bytes: 1, to: null, left: null } },
  ]);
  if (isRefused) return;
  const nextAttemptAt = state === 'delayed' ? NOW + 1e9 : null;
  addRecipient(db, id, nothingAsked(true), {
    address,
    domain: outside,
    state,
    nextAttemptAt,
    at,
    heldAt: null,
    payer: null,
    senderDomain: domain,
  });
  addEntry(db, { at, journeyId: id, domain, event: state, data: { recipient: address, reply: '250 2.0.0 Kept' } });
}

/** The slowest of all questions, each asked some times, in milliseconds; and which it is. */
function slowest(db: Database): { ms: number; question: string } {
  let worst = { ms: 0, question: '' };
  for (const question of QUESTIONS) {
    const times = Array.from({ length: 5 }, () => {
      const begun = performance.now();
      const found: { place: number; at: number }[] = [];
      for (const page of findJourneys(db, question)) {
        found.push(...page.found);
        if (found.length >= question.limit) break;
      }
      journeyRows(db, found, question.limit);
      return performance.now() - begun;
    }).sort((one, other) => one - other);
    const ms = times[2] ?? 0;
    const { limit: _limit, ...asked } = question;
    if (ms > worst.ms) worst = { ms, question: JSON.stringify(Object.fromEntries(Object.entries(asked).filter(([, value]) => value))) };
    if (process.env['TENEDOR_BENCH_EACH']) process.stderr.write(`  ${ms.toFixed(1)} ms  ${JSON.stringify(asked)}\n`);
  }
  return worst;
}

/** The slowest first page of a search in a journal of that many events. */
export async function searchTime(events: number): Promise<{ ms: number; question: string }> {
  const { db, folder } = await fill(events);
  const result = slowest(db);
  db.close();
  rmSync(folder, { recursive: true, force: true });
  return result;
}
