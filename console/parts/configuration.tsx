import { FileInput } from 'lucide-react';
import type { SettingChanges } from '../../src/api/configuration-schemas.ts';
import { call, useCall, useChange } from '../api.ts';
import { Answer, Panel, ProblemNote, Table } from './blocks.tsx';

/** What the file says otherwise than the service that runs. */
export function Configuration() {
  const changes = useCall<SettingChanges>('/configuration/changes', { everyMs: 10_000 });
  const reload = useChange<SettingChanges>(() => call('POST', '/configuration/reload'));
  return (
    <Panel title="Configuration file">
      {reload.error ? <ProblemNote problem={reload.error} /> : null}
      <Answer query={changes}>
        {({ changes }) =>
          changes.length === 0 ? (
            <p className="text-sm">The running service matches the file.</p>
          ) : (
            <>
              <Table>
                <thead>
                  <tr>
                    <th>Setting</th>
                    <th>Running</th>
                    <th>In the file</th>
                    <th>Applied</th>
                  </tr>
                </thead>
                <tbody>
                  {changes.map((one) => (
                    <tr key={one.key}>
                      <td className="sm:whitespace-nowrap">{one.key}</td>
                      <td className="[overflow-wrap:anywhere]">
                        <span className="record-text">{one.from ?? 'not set'}</span>
                      </td>
                      <td className="[overflow-wrap:anywhere]">
                        <span className="record-text">{one.to ?? 'not set'}</span>
                      </td>
                      <td className="sm:whitespace-nowrap">{one.isLive ? 'immediately' : 'after a restart'}</td>
                    </tr>
                  ))}
                </tbody>
              </Table>
              {changes.some((one) => one.isLive) ? (
                <button type="button" className="btn btn-sm mt-3" disabled={reload.isPending} onClick={() => reload.mutate()}>
                  <FileInput size={14} aria-hidden="true" /> Apply without restart
                </button>
              ) : null}
            </>
          )
        }
      </Answer>
    </Panel>
  );
}
