import { Pause, Play } from 'lucide-react';
import { useEffect, useRef, useState } from 'react';
import { Link } from 'react-router';
import type { JournalEntry } from '../../src/api/journey-schemas.ts';
import { Empty, Table } from '../parts/blocks.tsx';
import { clockTime, fullTime } from '../parts/words.ts';

const MOST = 500;
const COLOUR: Record<string, string> = {
  refused: 'text-error',
  failed: 'text-error',
  dropped: 'text-error',
  delayed: 'text-warning',
  held: 'text-warning',
  waiting: 'text-warning',
  relayed: 'text-success',
  delivered: 'text-success',
  accepted: 'text-success',
};

/** The journal as it happens. A lost connection comes back by itself, to the place where it was. */
export function LiveJournal() {
  const [rows, setRows] = useState<(JournalEntry & { key: number })[]>([]);
  const [paused, setPaused] = useState(false);
  const [domain, setDomain] = useState('');
  const [search, setSearch] = useState('');
  const [isOpen, setOpen] = useState(false);
  const waiting = useRef<(JournalEntry & { key: number })[]>([]);
  const [behind, setBehind] = useState(0);
  const isPaused = useRef(paused);
  isPaused.current = paused;
  const number = useRef(0);
  // What happens while another filter takes effect is not missed.
  const place = useRef('');
  useEffect(() => {
    let source: EventSource | null = null;
    // A page that nobody sees keeps no connection: browsers have six for a host, and all tabs share them. It goes on where it was.
    const look = (): void => {
      if (document.visibilityState === 'hidden') {
        source?.close();
        source = null;
        setOpen(false);
      } else if (source === null) source = open();
    };
    const open = (): EventSource => {
      const query = new URLSearchParams({
        search,
        ...(domain.includes('.') ? { domain } : {}),
        ...(place.current === '' ? {} : { after: place.current }),
      });
      const opened = new EventSource(`/api/v1/journal/live?${query}`);
      opened.addEventListener('open', () => setOpen(true));
      opened.addEventListener('error', () => setOpen(false));
      opened.addEventListener('place', (event) => {
        place.current = (event as MessageEvent).data;
      });
      opened.addEventListener('entry', take);
      return opened;
    };
    const take = (event: Event): void => {
      number.current += 1;
      const row = { ...(JSON.parse((event as MessageEvent).data) as JournalEntry), key: number.current };
      if (isPaused.current) {
        waiting.current = [row, ...waiting.current].slice(0, MOST);
        setBehind(waiting.current.length);
      } else setRows((before) => [row, ...before].slice(0, MOST));
    };
    look();
    document.addEventListener('visibilitychange', look);
    return () => {
      document.removeEventListener('visibilitychange', look);
      source?.close();
    };
  }, [search, domain]);
  const resume = (): void => {
    const more = waiting.current;
    waiting.current = [];
    setRows((before) => [...more, ...before].slice(0, MOST));
    setBehind(0);
    setPaused(false);
  };
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <label className="input input-sm w-full sm:w-72">
          <input
            type="search"
            aria-label="Only lines with"
            placeholder="Only lines with …"
            value={search}
            onChange={(event) => setSearch(event.target.value)}
          />
        </label>
        <label className="input input-sm w-full sm:w-56">
          <input
            type="search"
            aria-label="Only this domain"
            placeholder="Domain"
            value={domain}
            onChange={(event) => setDomain(event.target.value)}
          />
        </label>
        <button type="button" className="btn btn-sm" onClick={() => (paused ? resume() : setPaused(true))}>
          {paused ? <Play size={14} aria-hidden="true" /> : <Pause size={14} aria-hidden="true" />}
          {paused ? `Continue${behind > 0 ? ` (${behind} more)` : ''}` : 'Pause'}
        </button>
        <span role="status" className={`text-sm ${isOpen ? 'text-success' : 'text-warning'}`}>
          {paused ? 'paused' : isOpen ? 'listening' : 'connecting …'}
        </span>
      </div>
      <div className="panel overflow-x-auto">
        {rows.length === 0 ? (
          <Empty>No entries since this page was opened.</Empty>
        ) : (
          <Table label="Live journal">
            <tbody>
              {rows.map((row) => (
                <tr key={row.key}>
                  <td className="soft whitespace-nowrap align-top font-mono text-xs" title={fullTime(row.at)}>
                    {clockTime(row.at)}
                  </td>
                  <td className="whitespace-nowrap align-top text-xs">
                    {row.journeyId ? (
                      <Link className="link link-hover font-mono" to={`/traffic/${row.journeyId}`}>
                        {row.journeyId}
                      </Link>
                    ) : null}
                  </td>
                  <td className={`whitespace-nowrap align-top font-medium text-sm ${COLOUR[row.event] ?? ''}`}>{row.event}</td>
                  <td className="w-full text-sm [overflow-wrap:anywhere]">
                    {/* One piece: in a narrow window each child of a cell is laid out by itself. */}
                    <span>
                      {row.text}
                      {row.by === null ? null : <span className="soft"> · by {row.by}</span>}
                      {row.domain ? <span className="soft"> · {row.domain}</span> : null}
                    </span>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        )}
      </div>
    </>
  );
}
