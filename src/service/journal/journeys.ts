import { parseDomain } from '../../core/address/domain.ts';
import * as store from '../../store/journeys.ts';
import { type FoundPage, findJourneys, type JourneyQuery, type JourneyRow, journeyRows, journeysFound, named } from '../../store/search.ts';
import { actorWords, entryWords } from '../../texts/en/journal.ts';
import { Problem } from '../base/problem.ts';
import { toWall } from '../base/service-clock.ts';
import { requireDomain } from '../directory/domains.ts';
import type { JournalDeps } from './deps.ts';

export interface JourneyView {
  journey: Omit<store.Journey, 'file' | 'isVouched' | 'isDisowned' | 'domainId' | 'mailboxId'>;
  recipients: store.Recipient[];
  entries: (Omit<store.JournalEntry, 'actor'> & { text: string; by: string | null })[];
}

/** One message's way, from connection to final reply. */
export function showJourney({ db, clock }: JournalDeps, id: string): JourneyView {
  const found = store.findJourney(db, id);
  if (!found)
    throw new Problem(
      'not-found',
      `There is no journey “${id.slice(0, 40)}”.`,
      'The id is in the reply that accepted the message and in its Received field. To find a message: tenedor traffic --search WORDS',
    );
  const { file: _file, isVouched: _vouched, isDisowned: _disowned, domainId: _domain, mailboxId: _mailbox, ...journey } = found;
  const recipients = store.listRecipients(db, id).map((one) => ({ ...one, nextAttemptAt: toWall(clock, one.nextAttemptAt) }));
  return { journey: { ...journey, recipients: named(journey.recipients) }, recipients, entries: store.listEntries(db, id).map(worded) };
}

/** Journeys that are looked at for one search; what is older is not asked for then. */
const MOST_LOOKED_AT = 300_000;

export interface JourneyList {
  rows: JourneyRow[];
  /** Where the search ended because it had looked at enough: nothing before that time was looked at. Null when all was. */
  searchedTo: number | null;
}

/** Searches look by look, and lets everybody else have their turn in between. */
export async function listJourneys({ db, loop }: JournalDeps, query: JourneyQuery): Promise<JourneyList> {
  const domain = query.domain === null ? null : parseDomain(query.domain);
  const asked = { ...query, domain: domain?.kind === 'ok' ? domain.ascii : query.domain };
  const pages = findJourneys(db, asked);
  const found: FoundPage['found'] = [];
  let looked = 0;
  let searchedTo: number | null = null;
  for (;;) {
    const next = loop.during('a search for messages', () => pages.next());
    if (next.done) break;
    found.push(...next.value.found);
    looked += next.value.looked;
    const last = journeysFound(found)[query.limit - 1];
    // The next page begins before the last one's time: whatever is of that time belongs to this page.
    if (last && next.value.settled < last.at) break;
    if (looked >= MOST_LOOKED_AT) {
      searchedTo = next.value.to;
      break;
    }
    await new Promise((resolve) => setImmediate(resolve));
  }
  return { rows: journeyRows(db, found, query.limit), searchedTo };
}

export function journal(context: JournalDeps, domain: string | null, asked: { limit: number; before: number | null }) {
  const { rows, next } = store.listJournal(context.db, domain === null ? null : requireDomain(context, domain).name, asked);
  return { rows: rows.map(worded), next };
}

export type LiveEntry = Omit<store.WholeEntry, 'actor'> & { text: string; by: string | null };

/** What is wanted of the live journal; empty for everything. */
export interface LiveFilter {
  domain: string | null;
  journey: string | null;
  /** In the sentence, whatever the case. */
  search: string;
}

const AT_ONCE = 200;

/** The journal from a place on: what is there, and what comes. Each look gives the next entries and the place to go on from. */
export function entriesAfter(
  { db }: JournalDeps,
  place: number,
  filter: LiveFilter,
): { entries: LiveEntry[]; place: number; more: boolean } {
  const found = store.entriesAfter(db, place, AT_ONCE);
  const wanted = filter.search.toLowerCase();
  const entries = found
    .map(worded)
    .filter(
      (one) =>
        (filter.domain === null || one.domain === filter.domain) &&
        (filter.journey === null || one.journeyId === filter.journey) &&
        (wanted === '' || `${one.event} ${one.text} ${one.journeyId ?? ''}`.toLowerCase().includes(wanted)),
    );
  const last = found.at(-1)?.seq ?? place;
  return { entries, place: last, more: last > place && store.newestEntry(db) > last };
}

export const newestPlace = ({ db }: JournalDeps): number => store.newestEntry(db);

/** A journey as text, for a ticket: what an administrator would paste. */
export function journeyText(context: JournalDeps, id: string): string {
  const { journey, recipients, entries } = showJourney(context, id);
  const time = (at: number): string => new Date(at).toISOString().replace('T', ' ').slice(0, 19);
  const lines = [
    `Journey ${journey.id} on ${context.host.name}, times in UTC`,
    `  ${journey.kind}, ${journey.outcome}`,
    `  From:       ${journey.sender ?? '(a report)'}`,
    `  To:         ${journey.recipients}`,
    `  Subject:    ${journey.subject || '(none)'}`,
    ...(journey.messageId ? [`  Message-ID: <${journey.messageId}>`] : []),
    `  Client:     ${journey.client}`,
    '',
    ...entries.map((one) => `${time(one.at)}  ${one.event.padEnd(10)}  ${one.text}${one.by === null ? '' : `, by ${one.by}`}`),
    '',
    ...recipients.map(
      (one) =>
        `${one.address}: ${one.state}${one.held ? `, held (${one.held})` : one.nextAttemptAt === null ? '' : `, next attempt ${time(one.nextAttemptAt)}`}${one.reply ? `; ${one.reply}` : ''}`,
    ),
  ];
  return `${lines
    .join('\n')
    .replace(/[^\S\n]+$/gm, '')
    .replace(/(?!\n)\p{Cc}/gu, '\ufffd')}\n`;
}

function worded<Entry extends store.JournalEntry>({ actor, ...entry }: Entry): Omit<Entry, 'actor'> & { text: string; by: string | null } {
  return { ...entry, text: entryWords(entry.event, entry.data), by: actor && actorWords(actor) };
}
