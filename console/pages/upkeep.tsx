import { useSearchParams } from 'react-router';
import { Backups } from '../parts/backups.tsx';
import { PageHead, Tabs } from '../parts/blocks.tsx';
import { Configuration } from '../parts/configuration.tsx';
import { Transfers } from '../parts/transfers.tsx';
import { Versions } from '../parts/versions.tsx';

const TABS = { backups: 'Backups', mail: 'Import and export', configuration: 'Configuration file', updates: 'Updates' };
type Tab = keyof typeof TABS;

/** What keeps the service running: its backups, mail that is carried, its configuration, and its versions. */
export function UpkeepPage() {
  const [params, setParams] = useSearchParams();
  const asked = params.get('tab');
  const tab: Tab = asked !== null && asked in TABS ? (asked as Tab) : 'backups';
  return (
    <>
      <PageHead title="Upkeep" />
      <Tabs label="Kinds of upkeep" tabs={TABS} now={tab} onChange={(key) => setParams(key === 'backups' ? {} : { tab: key })} />
      {tab === 'mail' ? <Transfers /> : tab === 'configuration' ? <Configuration /> : tab === 'updates' ? <Versions /> : <Backups />}
    </>
  );
}
