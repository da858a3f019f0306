import { type FormEvent, type ReactNode, useState } from 'react';
import { CallProblem, useChange } from '../api.ts';
import { Form, FormEnd } from './forms.tsx';
import { count } from './words.ts';

/** Does one thing to several rows, one after the other; what was refused is named, and the rest is done. */
export function ManyForm<Row>({
  rows,
  nameOf,
  words,
  action,
  act,
  onClose,
  danger = false,
  children,
}: {
  rows: Row[];
  nameOf: (row: Row) => string;
  words: ReactNode;
  action: string;
  act: (row: Row) => Promise<unknown>;
  onClose: () => void;
  danger?: boolean;
  children?: ReactNode;
}) {
  const [doneSoFar, setDone] = useState(0);
  const run = useChange<{ name: string; why: string }[]>(
    async () => {
      const refused: { name: string; why: string }[] = [];
      for (const [at, row] of rows.entries()) {
        setDone(at);
        await act(row).catch((error: unknown) => {
          if (!(error instanceof CallProblem) || error.code === 'unreachable') throw error;
          refused.push({ name: nameOf(row), why: error.detail });
        });
      }
      return refused;
    },
    (refused) => {
      if (refused.length === 0) onClose();
    },
  );
  if (run.data && run.data.length > 0)
    return (
      <div role="alert">
        <p className="mb-2 text-sm">
          {rows.length - run.data.length} of {rows.length} done; refused:
        </p>
        <ul className="space-y-1 text-sm">
          {run.data.map(({ name, why }) => (
            <li key={name}>
              <span className="font-medium">{name}</span>: {why}
            </li>
          ))}
        </ul>
        <div className="mt-4 text-right">
          <button type="button" className="btn btn-primary" onClick={onClose}>
            Done
          </button>
        </div>
      </div>
    );
  return (
    <Form
      problem={run.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        run.mutate();
      }}
    >
      <p className="mb-2 text-sm">{words}</p>
      <p className="mb-3 max-h-40 overflow-y-auto text-sm [overflow-wrap:anywhere]">{rows.map(nameOf).join(', ')}</p>
      {children}
      {run.isPending ? (
        <progress
          className="progress progress-primary"
          value={doneSoFar}
          max={rows.length}
          aria-label={`of ${count(rows.length, 'row')}`}
        />
      ) : null}
      <FormEnd action={action} busy={run.isPending} problem={run.error} onCancel={onClose} danger={danger} />
    </Form>
  );
}
