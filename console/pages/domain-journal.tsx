import { Link } from 'react-router';
import type { Domain, JournalEntry } from '../../src/api/schemas.ts';
import { part, useCall } from '../api.ts';
import { Answer, Empty, Panel } from '../parts/blocks.tsx';
import { fullTime, shortTime } from '../parts/words.ts';

/** What happened lately in this domain, newest first. */
export function JournalTab({ domain }: { domain: Domain }) {
  const query = useCall<{ rows: JournalEntry[] }>(`/journal?limit=100&domain=${part(domain.name)}`, { everyMs: 5000 });
  return (
    <Panel title="The newest 100 entries">
      <Answer query={query} rows={8}>
        {({ rows }) =>
          rows.length === 0 ? (
            <Empty>Nothing has happened here yet.</Empty>
          ) : (
            <div className="overflow-x-auto">
              <table className="table table-sm">
                <tbody>
                  {rows.map((row) => (
                    <tr key={row.seq}>
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
              </table>
            </div>
          )
        }
      </Answer>
    </Panel>
  );
}
