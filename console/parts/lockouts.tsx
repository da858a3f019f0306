import { Link } from 'react-router';
import type { Lockout } from '../../src/api/schemas.ts';
import { call, useCall, useChange } from '../api.ts';
import { Answer, DataTable, Empty, Panel, ProblemNote } from './blocks.tsx';
import { ago, count } from './words.ts';

const LOOK_EVERY_MS = 15_000;

/** Who must wait before they may try to sign in again. */
export function Lockouts() {
  const query = useCall<Lockout[]>('/lockouts', { everyMs: LOOK_EVERY_MS });
  const lift = useChange<object, string>((name) => call('POST', '/lockouts/lift', { name }));
  return (
    <Panel title="Locked out after wrong passwords">
      {lift.error ? <ProblemNote problem={lift.error} /> : null}
      <Answer query={query}>
        {(rows) =>
          rows.length === 0 ? (
            <Empty>
              Nobody is locked out. After five wrong sign-ins from an address each further one doubles the wait there; an address from which
              the right password came lately is never held up by others.
            </Empty>
          ) : (
            <DataTable headings={['Who', 'Signing in to', 'Wrong', 'Last', 'May try again']}>
              {rows.map((one) => (
                <tr key={`${one.at} ${one.of} ${one.name}`}>
                  <td className="font-medium">
                    {one.domain === null ? (
                      one.name
                    ) : (
                      <Link className="link link-hover" to={`/domains/${one.domain}?tab=mailboxes`}>
                        {one.name}
                      </Link>
                    )}
                    {one.of === 'address' || one.of === 'network' ? <span className="soft"> (every account, from there)</span> : null}
                    {one.of === 'account' && one.domain !== null ? <span className="soft"> (from addresses that failed)</span> : null}
                    {one.of === 'account' && one.at === 'mailboxes' && one.domain === null ? (
                      <span className="soft"> (no mailbox here)</span>
                    ) : null}
                  </td>
                  <td>{one.at === 'console' ? 'the console' : 'mailboxes'}</td>
                  <td>{one.failures}</td>
                  <td className="soft">{ago(one.last)}</td>
                  <td>in {waitWords(one.until)}</td>
                  <td className="text-right">
                    <button
                      type="button"
                      className="btn btn-xs"
                      aria-label={`Let ${one.name} try again now`}
                      disabled={lift.isPending}
                      onClick={() => lift.mutate(one.name)}
                    >
                      Lift now
                    </button>
                  </td>
                </tr>
              ))}
            </DataTable>
          )
        }
      </Answer>
    </Panel>
  );
}

function waitWords(until: number): string {
  const seconds = Math.max(1, Math.ceil((until - Date.now()) / 1000));
  return seconds < 90 ? count(seconds, 'second') : count(Math.ceil(seconds / 60), 'minute');
}
