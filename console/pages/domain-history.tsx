import type { FindingChange } from '../../src/api/dns-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { part, useCall } from '../api.ts';
import { Answer, Panel } from '../parts/blocks.tsx';
import { Timeline } from '../parts/findings.tsx';

/** How what the domain publishes has turned. */
export function HistoryTab({ domain }: { domain: Domain }) {
  const query = useCall<{ rows: FindingChange[] }>(`/domains/${part(domain.name)}/history`, { everyMs: 10_000 });
  return (
    <Panel title="History of findings">
      <Answer query={query}>{({ rows }) => <Timeline rows={rows} />}</Answer>
    </Panel>
  );
}
