import { useState } from 'react';
import { Link } from 'react-router';
import type { SendingFailures, SendingView } from '../../src/api/mail-schemas.ts';
import { part, useCall } from '../api.ts';
import { Answer, Empty, Panel, Table } from './blocks.tsx';
import { OutcomeChart } from './charts.tsx';
import { size } from './words.ts';

const FEW = 20;
const MOST = 500;

/** Sends by how they ended, and who sends most: of one domain, or of all. */
export function SendsPanel({ domain }: { domain: string | null }) {
  const [days, setDays] = useState(1);
  const [most, setMost] = useState(FEW);
  const query = useCall<SendingView>(`/sending?${domain === null ? '' : `domain=${part(domain)}&`}days=${days}&limit=${most}`, {
    everyMs: 5000,
  });
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
        {({ outcomes, top, senders }) => (
          <>
            <OutcomeChart outcomes={outcomes} hours={days * 24} label={`Sends of ${domain ?? 'all domains'}`} />
            {top.length === 0 ? (
              <Empty>Nothing was sent in this period.</Empty>
            ) : (
              <Table className="mt-3">
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
              </Table>
            )}
            <MoreButton shown={top.length} total={senders} what="senders" limit={most} onMore={setMost} />
          </>
        )}
      </Answer>
      <Failures domain={domain} days={days} />
    </Panel>
  );
}

/** Why sends failed, by what the other servers said: nothing where none did. */
function Failures({ domain, days }: { domain: string | null; days: number }) {
  const [most, setMost] = useState(FEW);
  const query = useCall<SendingFailures>(
    `/sending/failures?${domain === null ? '' : `domain=${part(domain)}&`}days=${days}&limit=${most}`,
    {
      everyMs: 60_000,
    },
  );
  const reasons = query.data?.reasons ?? [];
  if (reasons.length === 0) return null;
  return (
    <>
      <h3 className="mt-4 font-medium text-sm">Why sends failed</h3>
      <Table className="mt-1">
        <thead>
          <tr>
            <th scope="col" className="text-right">
              Sends
            </th>
            <th scope="col">What the other server said</th>
            <th scope="col">Destination</th>
          </tr>
        </thead>
        <tbody>
          {reasons.map((one) => (
            <tr key={one.reason}>
              <td className="text-right">{one.sends.toLocaleString('en')}</td>
              <td className="[overflow-wrap:anywhere]">{one.reason}</td>
              <td>{one.destinations.join(', ')}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <MoreButton shown={reasons.length} total={query.data?.total ?? 0} what="reasons" limit={most} onMore={setMost} />
      {query.data?.whole === false ? (
        <p className="soft mt-1 text-sm">Only the most frequent replies are included. Choose a shorter period to see all.</p>
      ) : null}
    </>
  );
}

/** Says that there is more than is shown, and shows it. */
function MoreButton({
  shown,
  total,
  what,
  limit,
  onMore,
}: {
  shown: number;
  total: number;
  what: string;
  limit: number;
  onMore: (limit: number) => void;
}) {
  if (total <= shown) return null;
  return (
    <p className="soft mt-2 text-sm">
      {shown} of {total.toLocaleString('en')} {what}{' '}
      {limit < MOST ? (
        <button type="button" className="btn btn-xs ml-2" onClick={() => onMore(Math.min(MOST, limit * 5))}>
          Show more {what}
        </button>
      ) : (
        'are shown'
      )}
    </p>
  );
}
