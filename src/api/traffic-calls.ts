import * as journeys from '../service/journal/journeys.ts';
import { type Call, call } from './call.ts';
import * as s from './journey-schemas.ts';

/** Calls about what happened. */
export const TRAFFIC_CALLS: readonly Call[] = [
  call('get', '/journeys', 'Search messages', { query: s.journeyQuery, result: s.journeyList }, ({ context, query }) =>
    journeys.listJourneys(context, {
      ...query,
      domain: query.domain ?? null,
      state: query.state ?? null,
      client: query.client ?? null,
      since: query.since ?? null,
      before: query.before ?? null,
    }),
  ),
  call('get', '/journeys/:id', 'One message’s journey', { result: s.journeyView }, ({ context, param }) =>
    journeys.showJourney(context, param('id')),
  ),
  call('get', '/journeys/:id/text', 'One message’s journey as text, for a ticket', { result: s.journeyText }, ({ context, param }) => ({
    text: journeys.journeyText(context, param('id')),
  })),
  call('get', '/journal', 'The newest journal entries', { query: s.journalQuery, result: s.journalList }, ({ context, query }) =>
    journeys.journal(context, query.domain ?? null, { limit: query.limit, before: query.before ?? null }),
  ),
];
