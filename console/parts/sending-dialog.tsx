import { Gauge } from 'lucide-react';
import { useState } from 'react';
import { IconButton, Tabs } from './blocks.tsx';
import { Dialog } from './forms.tsx';
import { ScopeLimits } from './limits.tsx';
import { StatementView } from './statement.tsx';
import { PauseForm, ScopeStops } from './stops.tsx';

const TABS = { limits: 'Limits', pause: 'Pause', statement: 'Statement' };
type Tab = keyof typeof TABS;

/** A button for a row: how much that scope may send, its pause, and what it sent. A network has no pause: it is simply made unknown. */
export function SendingButton({ scope, name }: { scope: string; name: string }) {
  const [open, setOpen] = useState(false);
  const [tab, setTab] = useState<Tab>('limits');
  const { pause: _pause, ...without } = TABS;
  return (
    <>
      <IconButton icon={Gauge} label={`Sending of ${name}`} title="Limits, pause and statement" onClick={() => setOpen(true)} />
      <Dialog title={`Sending of ${name}`} open={open} onClose={() => setOpen(false)} wide>
        <Tabs label="Sending" tabs={(scope.includes('/') ? without : TABS) as Record<Tab, string>} now={tab} onChange={setTab} />
        {tab === 'limits' ? <ScopeLimits scope={scope} /> : null}
        {tab === 'pause' ? (
          <>
            <ScopeStops scope={scope} />
            <PauseForm scope={scope} />
          </>
        ) : null}
        {tab === 'statement' ? <StatementView scope={scope} /> : null}
      </Dialog>
    </>
  );
}
