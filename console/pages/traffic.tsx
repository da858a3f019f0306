import { Search } from 'lucide-react';
import { Link, useSearchParams } from 'react-router';
import type { JourneyRow } from '../../src/api/journey-schemas.ts';
import { RECIPIENT_STATES } from '../../src/core/vocabulary.ts';
import { useCall } from '../api.ts';
import { Answer, Empty, PageHead, Table, Tabs } from '../parts/blocks.tsx';
import { StateBadge } from '../parts/marks.tsx';
import { SendsPanel } from '../parts/sends.tsx';
import { fullTime, shortTime } from '../parts/words.ts';
import { ExplainTab } from './explain.tsx';
import { LiveJournal } from './live.tsx';

const STATES = ['', ...RECIPIENT_STATES, 'refused'];

const TABS = { messages: 'Messages', live: 'Live', senders: 'Senders', explain: 'Explain' } as const;

export function TrafficPage() {
  const [params, setParams] = useSearchParams();
  const asked = params.get('tab') ?? 'messages';
  const tab = asked in TABS ? (asked as keyof typeof TABS) : 'messages';
  return (
    <>
      <PageHead title="Traffic" />
      <Tabs
        label="Parts of the traffic"
        tabs={TABS}
        now={tab}
        onChange={(key) => setParams(key === 'messages' ? {} : { tab: key }, { replace: true })}
      />
      <div role="tabpanel" aria-label={TABS[tab]}>
        {tab === 'messages' ? <Messages /> : null}
        {tab === 'live' ? <LiveJournal /> : null}
        {tab === 'senders' ? <SendsPanel domain={null} /> : null}
        {tab === 'explain' ? <ExplainTab /> : null}
      </div>
    </>
  );
}

function Messages() {
  const [params, setParams] = useSearchParams();
  const value = (name: string): string => params.get(name) ?? '';
  const change = (name: string, next: string): void => {
    const changed = new URLSearchParams(params);
    if (next === '') changed.delete(name);
    else changed.set(name, next);
    if (!(name in TIMES)) changed.delete('before');
    setParams(changed, { replace: true });
  };
  const asked = new URLSearchParams({ limit: '50' });
  for (const name of ['search', 'domain', 'state', 'client', 'since', 'before']) if (value(name) !== '') asked.set(name, value(name));
  const query = useCall<{ rows: JourneyRow[] }>(`/journeys?${asked}`, { everyMs: 4000 });
  return (
    <>
      <div className="mb-3 flex flex-wrap gap-2">
        <label className="input input-sm w-full sm:w-80">
          <Search size={14} aria-hidden="true" />
          <input
            type="search"
            aria-label="Search messages"
            placeholder="Address, subject, Message-ID, journey"
            value={value('search')}
            onChange={(event) => change('search', event.target.value)}
          />
        </label>
        <label className="input input-sm w-full sm:w-56">
          <input
            type="search"
            aria-label="Domain"
            placeholder="Domain"
            value={value('domain')}
            onChange={(event) => change('domain', event.target.value)}
          />
        </label>
        <select
          className="select select-sm w-auto"
          aria-label="State"
          value={value('state')}
          onChange={(event) => change('state', event.target.value)}
        >
          {STATES.map((state) => (
            <option key={state} value={state}>
              {state || 'any state'}
            </option>
          ))}
        </select>
        <label className="input input-sm w-full sm:w-44">
          <input
            type="search"
            aria-label="Client address"
            placeholder="Client address"
            value={value('client')}
            onChange={(event) => change('client', event.target.value)}
          />
        </label>
        {(['since', 'before'] as const).map((name) => (
          <label key={name} className="input input-sm w-full sm:w-64">
            <span className="soft">{TIMES[name]}</span>
            <input
              type="datetime-local"
              aria-label={TIMES[name]}
              value={localTime(value(name))}
              onChange={(event) => change(name, event.target.value === '' ? '' : String(Date.parse(event.target.value)))}
            />
          </label>
        ))}
        <span className="soft self-center text-sm">{value('before') ? 'newest of that time first' : 'newest first, live'}</span>
      </div>
      <Answer query={query} rows={10}>
        {({ rows }) => (
          <>
            <JourneyTable rows={rows} />
            <div className="mt-3 flex justify-end gap-2">
              {value('before') ? (
                <button type="button" className="btn btn-sm" onClick={() => change('before', '')}>
                  Newest
                </button>
              ) : null}
              {rows.length === 50 ? (
                <button type="button" className="btn btn-sm" onClick={() => change('before', String(rows.at(-1)?.at ?? ''))}>
                  Older
                </button>
              ) : null}
            </div>
          </>
        )}
      </Answer>
    </>
  );
}

const TIMES = { since: 'From', before: 'Until' } as const;

/** As an input of the browser's own time zone takes it. */
function localTime(text: string): string {
  const at = new Date(Number(text));
  // An address may hold anything.
  if (text === '' || Number.isNaN(at.getTime())) return '';
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

/** Whether something of it is still not well: refused, delayed or failed. */
const troubled = (row: JourneyRow): boolean =>
  row.outcome === 'refused' || row.states.delayed !== undefined || row.states.failed !== undefined;

export function JourneyTable({ rows }: { rows: JourneyRow[] }) {
  if (rows.length === 0)
    return (
      <div className="panel">
        <Empty>No messages match. Refused messages are listed too, so a message that is not here never reached this server.</Empty>
      </div>
    );
  return (
    <div className="panel overflow-x-auto">
      <Table>
        <thead>
          <tr>
            <th scope="col">Time</th>
            <th scope="col">From</th>
            <th scope="col">To</th>
            <th scope="col">Subject</th>
            <th scope="col">State</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.id} className="hover:bg-base-200/60">
              <td className="whitespace-nowrap">
                <Link
                  to={`/traffic/${row.id}`}
                  className="link link-hover"
                  title={fullTime(row.at)}
                  aria-label={`${shortTime(row.at)}: journey ${row.id}`}
                >
                  {shortTime(row.at)}
                </Link>
              </td>
              <td className="max-w-52 truncate" title={row.sender ?? ''}>
                {row.sender ?? <span className="soft">(report)</span>}
              </td>
              <td className="max-w-60 truncate" title={row.recipients}>
                {row.recipients}
              </td>
              <td className="max-w-72 truncate" title={row.subject}>
                {row.subject}
                {row.trouble && troubled(row) ? (
                  <span className="soft block truncate text-xs" title={row.trouble}>
                    {row.trouble}
                  </span>
                ) : null}
              </td>
              <td>
                <span className="flex flex-wrap gap-1">
                  {row.outcome === 'refused' ? (
                    <StateBadge state="refused" />
                  ) : (
                    Object.entries(row.states).map(([state, number]) => (
                      <StateBadge key={state} state={state as 'queued'} number={number} />
                    ))
                  )}
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}
