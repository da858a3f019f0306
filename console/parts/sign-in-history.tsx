import type { SignIns } from '../../src/api/access-schemas.ts';
import { Panel } from './blocks.tsx';
import type { Column } from './list-parts.tsx';
import { Listing } from './listing.tsx';
import { FROM, LAST } from './sign-in-columns.tsx';

const LOOK_EVERY_MS = 30_000;

/** Who signed in to which mailbox in the last 90 days, and from where; of one domain, or of all. */
export function SignInHistory({ domain }: { domain: string | null }) {
  return (
    <Panel title="Sign-ins, last 90 days">
      <Listing<SignIns>
        name="history"
        path="/sign-ins"
        {...(domain === null ? {} : { fixed: domain })}
        everyMs={LOOK_EVERY_MS}
        searchFor="mailbox, domain or client address"
        keyOf={(one) => one.id}
        nameOf={(one) => one.mailbox}
        usual="last"
        columns={COLUMNS}
        empty={<p className="soft text-sm">Nobody has signed in yet.</p>}
      />
    </Panel>
  );
}

const COLUMNS: Column<SignIns>[] = [
  { heading: 'Mailbox', sort: 'mailbox', className: 'font-medium [overflow-wrap:anywhere]', cell: (one) => one.mailbox },
  FROM,
  {
    heading: 'Result',
    cell: (one) =>
      one.isGood ? (
        <>
          signed in
          <span className="soft block text-xs">{one.device === null ? 'mailbox password' : `app password ${one.device}`}</span>
        </>
      ) : (
        <span className="text-error">refused</span>
      ),
  },
  LAST,
];
