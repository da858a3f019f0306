import { Link, useSearchParams } from 'react-router';
import type { JournalEntry } from '../../src/api/journey-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { part, useCall } from '../api.ts';
import { Answer, Empty, Panel, Table } from '../parts/blocks.tsx';
import { fullTime, shortTime } from '../parts/words.ts';

/** What happened lately in this domain, newest first. */
export function JournalTab({ domain }: { domain: Domain }) {
  const [params, setParams] = useSearchParams();
  const before = params.get('before');
  const query = useCall<{ rows: JournalEntry[]; next: number | null }>(
    `/journal?limit=100&domain=${part(domain.name)}${before === null ? '' : `&before=${part(before)}`}`,
    { everyMs: before === null ? 5000 : 60_000 },
  );
  const turn = (to: number | null): void => {
    const next = new URLSearchParams(params);
    if (to === null) next.delete('before');
    else next.set('before', String(to));
    setParams(next);
  };
  return (
    <Panel title={before === null ? 'The newest entries' : 'Older entries'}>
      <Answer query={query} rows={8}>
        {({ rows, next }) =>
          rows.length === 0 ? (
            <Empty>No entries yet.</Empty>
          ) : (
            <div className="overflow-x-auto">
              <Table>
                <tbody>
                  {rows.map((row) => (
                    // Several entries may have been written as one row.
                    <tr key={`${row.seq} ${row.at} ${row.event} ${row.text}`}>
                      <td className="soft whitespace-nowrap align-top" title={fullTime(row.at)}>
                        {shortTime(row.at)}
                      </td>
                      <td className="align-top font-medium">{row.event}</td>
                      <td className="[overflow-wrap:anywhere]">
                        {row.text}
                        {row.by === null ? null : <span className="soft"> · by {row.by}</span>}
                      </td>
                      <td className="whitespace-nowrap align-top">
                        {row.journeyId ? (
                          <Link className="link link-hover" to={`/traffic/${row.journeyId}`}>
                            journey
                          </Link>
                        ) : null}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </Table>
              <div className="join mt-3">
                <button type="button" className="btn btn-sm join-item" disabled={before === null} onClick={() => turn(null)}>
                  Newest
                </button>
                <button type="button" className="btn btn-sm join-item" disabled={next === null} onClick={() => turn(next)}>
                  Older
                </button>
              </div>
            </div>
          )
        }
      </Answer>
    </Panel>
  );
}
