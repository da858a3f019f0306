import { Trash2, Undo2 } from 'lucide-react';
import { useState } from 'react';
import type { BroughtBack, RemovedMailbox } from '../../src/api/mailbox-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { call, part, useAll, useChange } from '../api.ts';
import { DataTable, IconButton, Panel, ProblemNote } from './blocks.tsx';
import { RemoveDialog } from './remove.tsx';
import { ago, day, size } from './words.ts';

/** Removed mailboxes of a domain that can still be brought back; nothing is shown where there is none. */
export function RemovedMailboxes({ domain }: { domain: Domain }) {
  const path = `/domains/${part(domain.name)}/removed-mailboxes`;
  const query = useAll<RemovedMailbox>(path, { everyMs: 10_000 });
  const [deleting, setDeleting] = useState<RemovedMailbox | null>(null);
  const back = useChange<BroughtBack, RemovedMailbox>((one) => call('POST', `/removed-mailboxes/${one.id}/restore`));
  const rows = query.data ?? [];
  const done = back.data;
  if (rows.length === 0 && !done) return null;
  return (
    <Panel title="Removed mailboxes">
      {back.error ? <ProblemNote problem={back.error} /> : null}
      {done ? (
        <p role="status" className="px-4 pb-3 text-sm">
          {done.mailbox.address} is back.
          {done.aliasesLeft.length > 0
            ? ` These aliases pointed to it, but their addresses are in use now: ${done.aliasesLeft.join(', ')}.`
            : ''}
        </p>
      ) : null}
      {rows.length > 0 ? (
        <DataTable headings={['Address', 'Messages', 'Stored', 'Removed', 'Kept until']}>
          {rows.map((one) => (
            <tr key={one.id}>
              <td className="font-medium">{one.address}</td>
              <td>{one.messages.toLocaleString('en')}</td>
              <td className="whitespace-nowrap">{size(one.usedBytes)}</td>
              <td className="whitespace-nowrap">{ago(one.removedAt)}</td>
              <td className="whitespace-nowrap">{day(one.keptUntil)}</td>
              <td className="whitespace-nowrap text-right">
                <IconButton
                  icon={Undo2}
                  label={`Restore ${one.address}`}
                  title="Restore with its messages"
                  onClick={() => back.mutate(one)}
                />
                <IconButton
                  icon={Trash2}
                  label={`Delete ${one.address} for good`}
                  title="Delete for good"
                  onClick={() => setDeleting(one)}
                />
              </td>
            </tr>
          ))}
        </DataTable>
      ) : null}
      <RemoveDialog
        what={deleting ? { path: `/removed-mailboxes/${deleting.id}`, name: deleting.address } : null}
        onClose={() => setDeleting(null)}
      />
    </Panel>
  );
}
