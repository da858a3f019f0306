import { useState } from 'react';
import { Link } from 'react-router';
import type { SendingView } from '../../src/api/mail-schemas.ts';
import { part, useCall } from '../api.ts';
import { Answer, Empty, Panel } from './blocks.tsx';
import { OutcomeChart } from './charts.tsx';
import { size } from './words.ts';

/** Sends by how they ended, and who sends most: of one domain, or of all. */
export function SendsPanel({ domain }: { domain: string | null }) {
  const [days, setDays] = useState(1);
  const query = useCall<SendingView>(`/sending?${domain === null ? '' : `domain=${part(domain)}&`}days=${days}`, { everyMs: 5000 });
  return (
    <Panel
      title="Sends by outcome"
      aside={
        <select
          className="select select-sm w-auto"
          aria-label="Period"
          value={days}
          onChange={(event) => setDays(Number(event.target.value))}
        >
          <option value={1}>last 24 hours</option>
          <option value={4}>last 4 days</option>
          <option value={31}>last 31 days</option>
        </select>
      }
    >
      <Answer query={query}>
        {({ outcomes, top }) => (
          <>
            <OutcomeChart outcomes={outcomes} hours={days * 24} label={`Sends of ${domain ?? 'all domains'}`} />
            {top.length === 0 ? (
              <Empty>Nobody has sent anything outside in this time.</Empty>
            ) : (
              <table className="table table-sm mt-3">
                <thead>
                  <tr>
                    <th scope="col">Sent by</th>
                    {domain === null ? <th scope="col">Domain</th> : null}
                    <th scope="col" className="text-right">
                      Messages
                    </th>
                    <th scope="col" className="text-right">
                      Sends
                    </th>
                    <th scope="col" className="text-right">
                      Size
                    </th>
                  </tr>
                </thead>
                <tbody>
                  {top.map((one) => (
                    <tr key={`${one.domain} ${one.mailbox ?? 'forwarded'}`}>
                      <td>{one.mailbox ?? <span className="soft">forwarded by aliases</span>}</td>
                      {domain === null ? (
                        <td>
                          <Link className="link link-hover" to={`/domains/${part(one.domain)}?tab=sending`}>
                            {one.domain}
                          </Link>
                        </td>
                      ) : null}
                      <td className="text-right">{one.messages.toLocaleString('en')}</td>
                      <td className="text-right">{one.sends.toLocaleString('en')}</td>
                      <td className="whitespace-nowrap text-right">{size(one.bytes)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </>
        )}
      </Answer>
    </Panel>
  );
}
