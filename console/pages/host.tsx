import { RotateCw } from 'lucide-react';
import type { HostReport } from '../../src/api/schemas.ts';
import { useCall } from '../api.ts';
import { Answer, CopyButton, DataTable, PageHead, Panel } from '../parts/blocks.tsx';
import { FindingBlock } from './domain-records.tsx';

export function HostPage() {
  const query = useCall<HostReport>('/host');
  return (
    <>
      <PageHead title="Host">
        <button type="button" className="btn btn-sm" onClick={() => query.refetch()} disabled={query.isFetching}>
          <RotateCw size={14} className={query.isFetching ? 'animate-spin' : ''} aria-hidden="true" /> Look again
        </button>
      </PageHead>
      <Answer query={query}>
        {(host) => (
          <div className="space-y-4">
            <Panel title={host.name}>
              <dl className="grid gap-x-6 gap-y-2 text-sm sm:grid-cols-[8rem_1fr]">
                <dt className="soft">Addresses</dt>
                <dd className="record-text">{host.addresses.join(', ')}</dd>
                <dt className="soft">Postmaster</dt>
                <dd>
                  {host.postmaster} <span className="soft">gets mail to postmaster and abuse that reaches nobody else</span>
                </dd>
              </dl>
              <p className="soft mt-3 text-sm">Name, addresses and postmaster stand in the configuration file.</p>
            </Panel>
            <Panel title="Findings">
              {host.findings.map((one) => (
                <FindingBlock key={one.code + one.headline} one={one} />
              ))}
            </Panel>
            <Panel title="Records of the host">
              <DataTable headings={['Type', 'Name', 'Value']}>
                {host.records.map((record) => (
                  <tr key={`${record.type} ${record.name} ${record.value}`}>
                    <td>{record.type}</td>
                    <td className="record-text">{record.name}</td>
                    <td className="record-text">{record.value}</td>
                    <td className="text-right">
                      <CopyButton
                        text={`${record.name}. IN ${record.type} ${record.value}${record.type === 'PTR' ? '.' : ''}`}
                        what={`${record.type} record`}
                      />
                    </td>
                  </tr>
                ))}
              </DataTable>
              <p className="soft mt-2 text-sm">PTR records belong to whoever holds the address block; ask there, it takes days.</p>
            </Panel>
          </div>
        )}
      </Answer>
    </>
  );
}
