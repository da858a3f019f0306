import { parseDomain } from '../core/address/domain.ts';
import * as store from '../store/journeys.ts';
import { hourlySends, type LedgerLine, listLedger } from '../store/ledger.ts';
import type { ServiceContext } from './context.ts';
import { type DomainView, requireDomain, showDomain } from './domains.ts';
import { entryWords } from './journal-words.ts';
import { Problem } from './problem.ts';

export interface JourneyView {
  journey: Omit<store.Journey, 'file'>;
  recipients: store.Recipient[];
  entries: (store.JournalEntry & { text: string })[];
}

/** One message's way, from connection to final reply. */
export function showJourney({ db }: ServiceContext, id: string): JourneyView {
  const found = store.findJourney(db, id);
  if (!found)
    throw new Problem(
      'not-found',
      `There is no journey “${id.slice(0, 40)}”.`,
      'The id stands in the reply that accepted the message and in its Received field; or search with: tenedor journal',
    );
  const { file: _file, ...journey } = found;
  return { journey, recipients: store.listRecipients(db, id), entries: store.listEntries(db, id).map(worded) };
}

export function listJourneys({ db }: ServiceContext, query: store.JourneyQuery): store.JourneyRow[] {
  const domain = query.domain === null ? null : parseDomain(query.domain);
  return store.listJourneys(db, { ...query, domain: domain?.kind === 'ok' ? domain.ascii : query.domain });
}

export const listQueue = ({ db }: ServiceContext) => store.listQueue(db, 500).map(({ file: _file, ...item }) => item);

/** Tries the waiting recipients of a journey now. */
export async function retryNow(context: ServiceContext, id: string): Promise<{ recipients: number }> {
  const { db, clock, signals } = context;
  showJourney(context, id);
  const recipients = await db.commit(() => {
    const changed = store.hurry(db, id, clock.now());
    if (changed > 0) store.addEntry(db, { at: clock.now(), journeyId: id, domain: null, event: 'hurried', data: { recipients: changed } });
    return changed;
  });
  if (recipients === 0) throw new Problem('in-use', `Nothing of journey ${id} is waiting.`, `See what became of it: tenedor journey ${id}`);
  signals.emit('mail', null);
  return { recipients };
}

export interface LedgerView {
  domain: DomainView;
  since: number;
  total: number;
  hours: { hour: number; sends: number }[];
  lines: LedgerLine[];
}

const MOST_LINES = 1000;

/** A domain's statement: what was charged since then, newest first. */
export function ledger(context: ServiceContext, name: string, since: number): LedgerView {
  const { id } = requireDomain(context, name);
  const hours = hourlySends(context.db, id, since);
  return {
    domain: showDomain(context, name),
    since,
    total: hours.reduce((sum, one) => sum + one.sends, 0),
    hours,
    lines: listLedger(context.db, id, since, MOST_LINES),
  };
}

export function journal(context: ServiceContext, domain: string | null, limit: number) {
  return store.listJournal(context.db, domain === null ? null : requireDomain(context, domain).name, limit).map(worded);
}

function worded<Entry extends store.JournalEntry>(entry: Entry): Entry & { text: string } {
  return { ...entry, text: entryWords(entry.event, entry.data) };
}
