import { parseDomain } from '../core/address/domain.ts';
import * as store from '../store/journeys.ts';
import type { ServiceContext } from './context.ts';
import { requireDomain } from './domains.ts';
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

export function journal(context: ServiceContext, domain: string | null, limit: number) {
  return store.listJournal(context.db, domain === null ? null : requireDomain(context, domain).name, limit).map(worded);
}

function worded<Entry extends store.JournalEntry>(entry: Entry): Entry & { text: string } {
  return { ...entry, text: entryWords(entry.event, entry.data) };
}
