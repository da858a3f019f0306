import { type FormEvent, useState } from 'react';
import type { Removal } from '../../src/api/schemas.ts';
import { call, useCall, useChange } from '../api.ts';
import { Answer } from './blocks.tsx';
import { Dialog, Form, FormEnd } from './forms.tsx';

export interface Removable {
  /** Its path in the API; the path with `/removal` says what goes along. */
  path: string;
  name: string;
}

/** Says what goes along and what stays, and removes only when its name is typed. */
export function RemoveDialog({ what, onClose, onRemoved }: { what: Removable | null; onClose: () => void; onRemoved?: () => void }) {
  return (
    <Dialog title={`Remove ${what?.name ?? ''}`} open={what !== null} onClose={onClose}>
      {what ? <RemoveForm what={what} onClose={onClose} onRemoved={onRemoved ?? (() => {})} /> : null}
    </Dialog>
  );
}

function RemoveForm({ what, onClose, onRemoved }: { what: Removable; onClose: () => void; onRemoved: () => void }) {
  const removal = useCall<Removal>(`${what.path}/removal`);
  const [typed, setTyped] = useState('');
  const remove = useChange<object>(
    () => call('DELETE', what.path),
    () => {
      onClose();
      onRemoved();
    },
  );
  return (
    <Form
      problem={remove.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        if (typed.trim() === what.name) remove.mutate();
      }}
    >
      <Answer query={removal}>
        {({ goes, stays }) => (
          <div className="space-y-2 text-sm">
            <p className="font-medium">Also removed:</p>
            <ul className="list-disc pl-5">
              {goes.map((line) => (
                <li key={line}>{line}</li>
              ))}
              {goes.length === 0 ? <li>nothing else</li> : null}
            </ul>
            <p className="soft">Not removed:</p>
            <ul className="soft list-disc pl-5">
              {stays.map((line) => (
                <li key={line}>{line}</li>
              ))}
            </ul>
            <label className="block pt-2">
              <span className="mb-1 block">
                Type <span className="font-medium">{what.name}</span> to confirm
              </span>
              <input
                className="input w-full"
                aria-label={`Type ${what.name} to confirm`}
                value={typed}
                onChange={(event) => setTyped(event.target.value)}
              />
            </label>
          </div>
        )}
      </Answer>
      <FormEnd
        action="Remove"
        busy={remove.isPending}
        ready={typed.trim() === what.name}
        problem={remove.error}
        onCancel={onClose}
        danger
      />
    </Form>
  );
}
