import { Link } from 'react-router';
import type { LedgerView } from '../../src/api/mail-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { part, useCall } from '../api.ts';
import { Answer, Empty, Panel, Table } from '../parts/blocks.tsx';
import { LimitMeters, ScopeLimits } from '../parts/limits.tsx';
import { SendsPanel } from '../parts/sends.tsx';
import { StatementView } from '../parts/statement.tsx';
import { PauseForm } from '../parts/stops.tsx';
import { count, fullTime, shortTime, size } from '../parts/words.ts';

export function SendingTab({ domain }: { domain: Domain }) {
  const ledger = useCall<LedgerView>(`/ledger/${part(domain.name)}`, { everyMs: 5000 });
  return (
    <div className="grid grid-cols-1 items-start gap-4 lg:grid-cols-3">
      <div className="space-y-4 lg:col-span-2">
        <Panel title="Limits and usage">
          <LimitMeters limits={domain.limits} />
        </Panel>
        <SendsPanel domain={domain.name} />
        <Panel title="Statement">
          <StatementView scope={domain.name} />
        </Panel>
        <Panel title="Ledger, last 24 hours">
          <Answer query={ledger}>
            {(view) => (
              <>
                <p className="soft mb-2 text-sm">
                  {count(view.total.messages, 'message')} with {count(view.total.sends, 'send')}, {size(view.total.bytes)}
                </p>
                {view.lines.length === 0 ? <Empty>No charges in this period.</Empty> : <Lines lines={view.lines} />}
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
      <Table className="table-pin-rows">
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
      </Table>
    </div>
  );
}
