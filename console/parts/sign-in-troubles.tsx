import type { SignInTrouble } from '../../src/api/access-schemas.ts';
import { Panel } from './blocks.tsx';
import type { Column } from './list-parts.tsx';
import { Listing } from './listing.tsx';
import { FROM, LAST } from './sign-in-columns.tsx';

const LOOK_EVERY_MS = 15_000;

/** Sign-ins that failed lately, with what is to be done; of one domain, or of all. */
export function SignInTroubles({ domain }: { domain: string | null }) {
  return (
    <Panel title="Recent failed sign-ins">
      <Listing<SignInTrouble>
        name="sign-ins"
        path="/sign-in-troubles"
        {...(domain === null ? {} : { fixed: domain })}
        everyMs={LOOK_EVERY_MS}
        searchFor="failed sign-ins"
        keyOf={(one) => one.id}
        nameOf={(one) => one.typed ?? one.client}
        usual="last"
        columns={COLUMNS}
        empty={<p className="soft text-sm">No sign-ins have failed recently.</p>}
      />
    </Panel>
  );
}

const COLUMNS: Column<SignInTrouble>[] = [
  {
    heading: 'Mailbox',
    sort: 'mailbox',
    className: '[overflow-wrap:anywhere]',
    cell: (one) => (
      <>
        <span className="font-medium">{one.mailbox ?? one.typed ?? 'nobody known yet'}</span>
        {one.mailbox && one.typed !== null && one.typed.toLowerCase() !== one.mailbox ? (
          <span className="soft block text-xs">typed “{one.typed}”</span>
        ) : null}
      </>
    ),
  },
  FROM,
  LAST,
  {
    heading: 'Problem and fix',
    cell: (one) => (
      <>
        {one.text}
        <span className="soft block text-xs">{one.remedy}</span>
      </>
    ),
  },
];
