import { useState } from 'react';
import { Link } from 'react-router';
import type { LedgerView, SendingView } from '../../src/api/mail-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { part, useCall } from '../api.ts';
import { Answer, Empty, Panel } from '../parts/blocks.tsx';
import { OutcomeChart } from '../parts/charts.tsx';
import { LimitMeters, ScopeLimits } from '../parts/limits.tsx';
import { StatementView } from '../parts/statement.tsx';
import { PauseForm } from '../parts/stops.tsx';
import { count, fullTime, shortTime, size } from '../parts/words.ts';

export function SendingTab({ domain }: { domain: Domain }) {
  const [days, setDays] = useState(1);
  const ledger = useCall<LedgerView>(`/ledger/${part(domain.name)}?days=${days}`, { everyMs: 5000 });
  const sending = useCall<SendingView>(`/sending?domain=${part(domain.name)}&days=${days}`, { everyMs: 5000 });
  return (
    <div className="grid items-start gap-4 lg:grid-cols-3">
      <div className="space-y-4 lg:col-span-2">
        <Panel title="Used of the limits">
          <LimitMeters limits={domain.limits} />
        </Panel>
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
          <Answer query={sending}>
            {({ outcomes, top }) => (
              <>
                <OutcomeChart outcomes={outcomes} hours={days * 24} label={`Sends of ${domain.name}`} />
                {top.length > 0 ? (
                  <table className="table table-sm mt-3">
                    <thead>
                      <tr>
                        <th scope="col">Sent by</th>
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
                        <tr key={one.mailbox ?? 'forwarded'}>
                          <td>{one.mailbox ?? 'forwarded by aliases'}</td>
                          <td className="text-right">{one.messages.toLocaleString('en')}</td>
                          <td className="text-right">{one.sends.toLocaleString('en')}</td>
                          <td className="whitespace-nowrap text-right">{size(one.bytes)}</td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                ) : null}
              </>
            )}
          </Answer>
        </Panel>
        <Panel title="Statement">
          <StatementView scope={domain.name} />
        </Panel>
        <Panel title="Ledger">
          <Answer query={ledger}>
            {(view) => (
              <>
                <p className="soft mb-2 text-sm">
                  {count(view.total.messages, 'message')} with {count(view.total.sends, 'send')}, {size(view.total.bytes)}
                </p>
                {view.lines.length === 0 ? <Empty>Nothing was charged in this time.</Empty> : <Lines lines={view.lines} />}
              </>
            )}
          </Answer>
        </Panel>
      </div>
      <div className="space-y-4">
        <Panel title="Limits">
          <ScopeLimits scope={domain.name} meters={false} />
        </Panel>
        <Panel title="Pause">
          <PauseForm scope={domain.name} />
        </Panel>
      </div>
    </div>
  );
}

function Lines({ lines }: { lines: LedgerView['lines'] }) {
  return (
    <div className="max-h-96 overflow-auto">
      <table className="table table-sm table-pin-rows">
        <thead>
          <tr>
            <th scope="col">Time</th>
            <th scope="col">Mailbox</th>
            <th scope="col">Subject</th>
            <th scope="col" className="text-right">
              Sends
            </th>
          </tr>
        </thead>
        <tbody>
          {lines.slice(0, 200).map((line) => (
            <tr key={`${line.journeyId} ${line.at}`}>
              <td className="whitespace-nowrap">
                <Link className="link link-hover" to={`/traffic/${line.journeyId}`} title={fullTime(line.at)}>
                  {shortTime(line.at)}
                </Link>
              </td>
              <td>{line.kind === 'forwarded' ? <span className="soft">forwarded by an alias</span> : line.mailbox}</td>
              <td className="max-w-80 truncate">{line.subject}</td>
              <td className="text-right">{line.sends}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
