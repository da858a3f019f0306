import { Hand, Play, RotateCw, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import { call, useChange } from '../api.ts';
import { Field, Form, FormEnd } from './forms.tsx';

export type Act = 'retry' | 'hold' | 'release' | 'drop';
export const ACTS: Record<Act, { name: string; icon: typeof Play; says: string }> = {
  retry: { name: 'Try now', icon: RotateCw, says: 'are tried immediately. Held recipients stay held.' },
  hold: { name: 'Hold', icon: Hand, says: 'are held until they are released.' },
  release: { name: 'Release', icon: Play, says: 'are released, if they were held by hand, brake or pause.' },
  drop: { name: 'Drop', icon: Trash2, says: 'are given up, and their senders are notified.' },
};

/** A button for each thing that can be done to many at once. */
export function ActButtons({ words = '', onAct }: { words?: string; onAct: (act: Act) => void }) {
  return (Object.keys(ACTS) as Act[]).map((act) => {
    const { name, icon: Icon } = ACTS[act];
    return (
      <button key={act} type="button" className="btn btn-sm" onClick={() => onAct(act)}>
        <Icon size={14} aria-hidden="true" /> {name}
        {words} …
      </button>
    );
  });
}

export function ActForm({
  act,
  selection,
  expected,
  what,
  onClose,
}: {
  act: Act;
  selection: object;
  expected: number;
  what: string;
  onClose: () => void;
}) {
  const [reason, setReason] = useState('');
  const run = useChange<object>(
    () => call('POST', '/queue/actions', { act, ...selection, expected: expected < 0 ? null : expected, reason }),
    onClose,
  );
  return (
    <Form
      problem={run.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        run.mutate();
      }}
    >
      <p className="mb-3 text-sm">
        {what} {ACTS[act].says}
      </p>
      <Field field="reason" label="Why" hint="Optional; recorded in the journal.">
        <input className="input w-full" value={reason} onChange={(event) => setReason(event.target.value)} />
      </Field>
      <FormEnd action={ACTS[act].name} busy={run.isPending} problem={run.error} onCancel={onClose} danger={act === 'drop'} />
    </Form>
  );
}
