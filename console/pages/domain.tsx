import { useParams, useSearchParams } from 'react-router';
import type { CheckReport } from '../../src/api/dns-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { part, useCall } from '../api.ts';
import { Answer, PageHead, Tabs } from '../parts/blocks.tsx';
import { Ready } from '../parts/marks.tsx';
import { StopNotes } from '../parts/stops.tsx';
import { HistoryTab } from './domain-history.tsx';
import { JournalTab } from './domain-journal.tsx';
import { KeysTab } from './domain-keys.tsx';
import { MailboxesTab } from './domain-mailboxes.tsx';
import { MoveTab } from './domain-move.tsx';
import { RecordsTab } from './domain-records.tsx';
import { SendingTab } from './domain-sending.tsx';
import { SetUpTab } from './domain-set-up.tsx';
import { SettingsTab } from './domain-settings.tsx';

const TABS = {
  'set-up': 'Set-up',
  records: 'Records',
  keys: 'Keys',
  history: 'History',
  mailboxes: 'Mailboxes',
  sending: 'Sending',
  move: 'Move',
  journal: 'Journal',
  settings: 'Settings',
};
type Tab = keyof typeof TABS;

export function DomainPage() {
  const { name = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const asked = params.get('tab') ?? 'set-up';
  const tab: Tab = asked in TABS ? (asked as Tab) : 'set-up';
  const query = useCall<Domain>(`/domains/${part(name)}`, { everyMs: 5000 });
  const check = useCall<{ report: CheckReport | null }>(`/domains/${part(name)}/check`, { everyMs: 5000 });
  return (
    <>
      <PageHead title={query.data?.display ?? name} path={[{ to: '/domains', name: 'Domains' }]}>
        {query.data ? (
          <span className="flex items-center gap-3">
            <span className="soft text-sm">readiness</span>
            <Ready points={query.data.readiness} large />
          </span>
        ) : null}
      </PageHead>
      <Answer query={query}>
        {(domain) => (
          <>
            <p className="soft -mt-4 mb-4 text-sm">
              {domain.customer} · plan {domain.plan} · role {domain.role}
              {domain.primaryServer ? ` (${domain.primaryServer})` : ''}
              {domain.oldServer ? ` · mail is passed on to ${domain.oldServer}` : ''}
              {domain.twinOf ? ` · twin of ${domain.twinOf}` : ''}
              {domain.display === domain.name ? '' : ` · ${domain.name}`}
            </p>
            <StopNotes domain={domain.name} customer={domain.customer} />
            <Tabs
              label="Parts of the domain"
              tabs={TABS}
              now={tab}
              onChange={(key) => setParams(key === 'set-up' ? {} : { tab: key }, { replace: true })}
            />
            <div role="tabpanel" aria-label={TABS[tab]}>
              {tab === 'set-up' ? (
                <SetUpTab domain={domain} report={check.data?.report ?? null} onTab={(next) => setParams({ tab: next })} />
              ) : null}
              {tab === 'records' ? <RecordsTab domain={domain} report={check.data?.report ?? null} /> : null}
              {tab === 'keys' ? <KeysTab domain={domain} /> : null}
              {tab === 'history' ? <HistoryTab domain={domain} /> : null}
              {tab === 'mailboxes' ? <MailboxesTab domain={domain} /> : null}
              {tab === 'sending' ? <SendingTab domain={domain} /> : null}
              {tab === 'move' ? <MoveTab domain={domain.name} /> : null}
              {tab === 'journal' ? <JournalTab domain={domain} /> : null}
              {tab === 'settings' ? <SettingsTab domain={domain} /> : null}
            </div>
          </>
        )}
      </Answer>
    </>
  );
}
