import { LockOpen } from 'lucide-react';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Lockout } from '../../src/api/access-schemas.ts';
import { call, useChange } from '../api.ts';
import { Empty, Panel, ProblemNote } from './blocks.tsx';
import { Dialog } from './forms.tsx';
import { Listing } from './listing.tsx';
import { ManyForm } from './many-form.tsx';
import { ago, count } from './words.ts';

const LOOK_EVERY_MS = 15_000;

/** Who must wait before they may try to sign in again. */
export function Lockouts() {
  const [lifting, setLifting] = useState<Lockout[]>([]);
  const lift = useChange<object, string>((name) => call('POST', '/lockouts/lift', { name }));
  return (
    <Panel title="Lockouts">
      {lift.error ? <ProblemNote problem={lift.error} /> : null}
      <Listing<Lockout>
        name="lockouts"
        path="/lockouts"
        everyMs={LOOK_EVERY_MS}
        searchFor="lockouts"
        keyOf={(one) => `${one.at} ${one.of} ${one.name}`}
        nameOf={(one) => one.name}
        columns={[
          { heading: 'Account or address', sort: 'ours', className: 'font-medium', cell: who },
          { heading: 'Signing in to', cell: (one) => (one.at === 'console' ? 'the console' : 'mailboxes') },
          { heading: 'Failures', sort: 'failures', down: true, cell: (one) => one.failures },
          { heading: 'Last', className: 'soft', cell: (one) => ago(one.last) },
          { heading: 'May try again', sort: 'until', down: true, cell: (one) => `in ${waitWords(one.until)}` },
        ]}
        orders={{ name: 'Name' }}
        actions={(one) => (
          <button
            type="button"
            className="btn btn-xs"
            aria-label={`Lift now: ${one.name}`}
            disabled={lift.isPending}
            onClick={() => lift.mutate(one.name)}
          >
            Lift now
          </button>
        )}
        many={[{ name: 'Lift', icon: LockOpen, onAct: setLifting }]}
        empty={
          <Empty>
            No lockouts. After five failed sign-ins from an address, each further failure doubles the wait. Addresses with a recent
            successful sign-in are never affected by others.
          </Empty>
        }
      />
      <Dialog title="Lift several lockouts" open={lifting.length > 0} onClose={() => setLifting([])}>
        <ManyForm
          rows={lifting}
          nameOf={(one) => one.name}
          words="They can sign in again immediately:"
          action="Lift them"
          act={(one) => call('POST', '/lockouts/lift', { name: one.name })}
          onClose={() => setLifting([])}
        />
      </Dialog>
    </Panel>
  );
}

const who = (one: Lockout) => (
  <>
    {one.domain === null ? (
      one.name
    ) : (
      <Link className="link link-hover" to={`/domains/${one.domain}?tab=mailboxes`}>
        {one.name}
      </Link>
    )}
    {one.of === 'address' || one.of === 'network' ? <span className="soft"> (every account, from there)</span> : null}
    {one.of === 'account' && one.domain !== null ? <span className="soft"> (from addresses that failed)</span> : null}
    {one.of === 'account' && one.at === 'mailboxes' && one.domain === null ? <span className="soft"> (no mailbox here)</span> : null}
  </>
);

function waitWords(until: number): string {
  const seconds = Math.max(1, Math.ceil((until - Date.now()) / 1000));
  return seconds < 90 ? count(seconds, 'second') : count(Math.ceil(seconds / 60), 'minute');
}
