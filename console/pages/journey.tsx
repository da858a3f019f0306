import { FastForward } from 'lucide-react';
import { Link, useParams } from 'react-router';
import type { JourneyView } from '../../src/api/journey-schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Answer, PageHead, Panel, ProblemNote } from '../parts/blocks.tsx';
import { CopyButton } from '../parts/copy.tsx';
import { StateBadge } from '../parts/marks.tsx';
import { HELD_WORDS } from '../parts/queue-rows.tsx';
import { clockTime, day, fullTime, size } from '../parts/words.ts';

const DOTS: Record<string, string> = {
  delivered: 'bg-success',
  relayed: 'bg-success',
  accepted: 'bg-success',
  refused: 'bg-error',
  failed: 'bg-error',
  delayed: 'bg-warning',
};

/** One message's way, from connection to final reply. */
export function JourneyPage() {
  const { id = '' } = useParams();
  const query = useCall<JourneyView>(`/journeys/${part(id)}`, { everyMs: 3000 });
  const retry = useChange<{ recipients: number }>(() => call('POST', '/queue/actions', { act: 'retry', ids: [id] }));
  const ticket = useCall<{ text: string }>(`/journeys/${part(id)}/text`, { everyMs: 3000 });
  const waiting = query.data?.recipients.some((one) => one.nextAttemptAt !== null && one.held === null);
  return (
    <>
      <PageHead title={query.data?.journey.subject || `Journey ${id}`} path={[{ to: '/traffic', name: 'Traffic' }]}>
        {ticket.data ? <CopyButton text={ticket.data.text} what="text for a ticket" label="Copy for a ticket" /> : null}
        {waiting ? (
          <button type="button" className="btn btn-sm" disabled={retry.isPending} onClick={() => retry.mutate()}>
            <FastForward size={14} aria-hidden="true" /> Try now
          </button>
        ) : null}
      </PageHead>
      {retry.error ? <ProblemNote problem={retry.error} /> : null}
      <Answer query={query}>
        {({ journey, recipients, entries }) => (
          <div className="grid gap-4 lg:grid-cols-3">
            <Panel title="Path" className="lg:col-span-2">
              <ol className="relative ml-1.5 border-base-300 border-l-2">
                {entries.map((entry, at) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: entries of one row share its number, and never change places
                  <li key={`${entry.seq} ${at}`} className="relative mb-4 pl-5 last:mb-1">
                    <span
                      className={`-left-[7px] absolute top-1.5 size-3 rounded-full border-2 border-base-100 ${DOTS[entry.event] ?? 'bg-neutral'}`}
                      aria-hidden="true"
                    />
                    <span className="flex flex-wrap items-baseline gap-x-3">
                      <span className="font-medium">{entry.event}</span>
                      <time className="soft text-xs" dateTime={new Date(entry.at).toISOString()} title={fullTime(entry.at)}>
                        {at === 0 || day(entry.at) !== day(entries[at - 1]?.at ?? 0) ? `${day(entry.at)} ` : ''}
                        {clockTime(entry.at)}
                      </time>
                    </span>
                    <span className="soft block text-sm [overflow-wrap:anywhere]">
                      {entry.text}
                      {entry.by === null ? '' : ` · by ${entry.by}`}
                    </span>
                  </li>
                ))}
              </ol>
            </Panel>
            <div className="min-w-0 space-y-4">
              <Panel title="The message">
                <dl className="space-y-2 text-sm">
                  <Fact name="Journey">
                    <span className="record-text">{journey.id}</span> <CopyButton text={journey.id} what="journey id" />
                  </Fact>
                  <Fact name="Outcome">
                    <StateBadge state={journey.outcome} /> {journey.kind}
                  </Fact>
                  <Fact name="From">{journey.sender ?? 'none (a report)'}</Fact>
                  <Fact name="To">{journey.recipients}</Fact>
                  {journey.messageId ? <Fact name="Message">{`<${journey.messageId}>`}</Fact> : null}
                  <Fact name="Client">{journey.client}</Fact>
                  {journey.size > 0 ? <Fact name="Size">{size(journey.size)}</Fact> : null}
                  {journey.domain ? (
                    <Fact name="Domain">
                      <Link className="link link-hover" to={`/domains/${journey.domain}`}>
                        {journey.domain}
                      </Link>
                    </Fact>
                  ) : null}
                </dl>
              </Panel>
              {recipients.length > 0 ? (
                <Panel title="Recipients">
                  <ul className="space-y-3 text-sm">
                    {recipients.map((one) => (
                      <li key={one.id}>
                        <span className="flex items-center justify-between gap-2">
                          <span className="truncate" title={one.address}>
                            {one.address}
                          </span>
                          <StateBadge state={one.state} />
                        </span>
                        {one.reply ? <span className="soft block text-xs [overflow-wrap:anywhere]">{one.reply}</span> : null}
                        {one.held !== null ? (
                          <span className="block text-warning text-xs">{HELD_WORDS[one.held]}</span>
                        ) : one.nextAttemptAt !== null ? (
                          <span className="block text-warning text-xs">next attempt {fullTime(one.nextAttemptAt)}</span>
                        ) : null}
                      </li>
                    ))}
                  </ul>
                </Panel>
              ) : null}
            </div>
          </div>
        )}
      </Answer>
    </>
  );
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="grid grid-cols-[4.5rem_1fr] gap-2">
      <dt className="soft">{name}</dt>
      <dd className="min-w-0 [overflow-wrap:anywhere]">{children}</dd>
    </div>
  );
}
