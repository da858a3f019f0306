import type { WebSession } from '../../src/api/access-schemas.ts';
import { call, useChange } from '../api.ts';
import { Panel, ProblemNote } from './blocks.tsx';
import { Listing } from './listing.tsx';
import { ago, count } from './words.ts';

/** Where the account is signed in to the console. */
export function Sessions() {
  const end = useChange<{ ended: number }, number | null>((id) => call('POST', '/sessions/end', { id }));
  return (
    <Panel title="Your sessions">
      <p className="soft mb-3 text-sm">Console sessions of your account. Changing the password ends all the others.</p>
      {end.error ? <ProblemNote problem={end.error} /> : null}
      {end.data ? (
        <p role="status" className="mb-2 text-sm text-success">
          {count(end.data.ended, 'session')} ended.
        </p>
      ) : null}
      <Listing<WebSession>
        name="sessions"
        path="/sessions"
        searchFor="sessions"
        keyOf={(one) => one.id}
        nameOf={(one) => `the session from ${one.address}`}
        columns={[
          {
            heading: 'From',
            sort: 'address',
            cell: (one) => (
              <>
                <span className="font-medium">{one.address}</span>
                {one.current ? <span className="soft"> (this one)</span> : null}
                <span className="soft block max-w-64 truncate text-xs" title={one.program}>
                  {one.program || 'unidentified client'}
                </span>
              </>
            ),
          },
          { heading: 'Used', sort: 'used', down: true, className: 'soft', cell: (one) => ago(one.usedAt) },
        ]}
        usual="used"
        actions={(one) =>
          one.current ? null : (
            <button
              type="button"
              className="btn btn-xs"
              aria-label={`Sign out of the session from ${one.address}`}
              disabled={end.isPending}
              onClick={() => end.mutate(one.id)}
            >
              Sign out
            </button>
          )
        }
        foot={(rows) =>
          rows.length > 1 ? (
            <button type="button" className="btn btn-sm ml-3" disabled={end.isPending} onClick={() => end.mutate(null)}>
              Sign out everywhere else
            </button>
          ) : null
        }
        empty={<p className="soft text-sm">There are no other sessions.</p>}
      />
    </Panel>
  );
}
