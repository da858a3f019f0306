import { useSearchParams } from 'react-router';
import { PageHead, Tabs } from '../parts/blocks.tsx';
import { MessageTests } from '../parts/message-tests.tsx';
import { StepTests } from '../parts/step-tests.tsx';
import { Witnesses } from '../parts/witnesses.tsx';

const TABS = { steps: 'Step by step', messages: 'Message score', witnesses: 'Witnesses' };
type Tab = keyof typeof TABS;

export function TestsPage() {
  const [params, setParams] = useSearchParams();
  const asked = params.get('tab');
  const tab: Tab = asked === 'messages' || asked === 'witnesses' ? asked : 'steps';
  return (
    <>
      <PageHead title="Tests" />
      <Tabs label="Kinds of tests" tabs={TABS} now={tab} onChange={(key) => setParams(key === 'steps' ? {} : { tab: key })} />
      {tab === 'messages' ? <MessageTests /> : tab === 'witnesses' ? <Witnesses /> : <StepTests />}
    </>
  );
}
