import { Plus, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { AddedWitness, Witness } from '../../src/api/rehearsal-schemas.ts';
import { call, part, useChange } from '../api.ts';
import { Empty, IconButton, Panel } from './blocks.tsx';
import { CopyButton } from './copy.tsx';
import { Dialog, Field, Form, FormEnd } from './forms.tsx';
import { Listing } from './listing.tsx';
import { fullTime, shortTime } from './words.ts';

const stateOf = (one: Witness): string =>
  !one.isIntroduced ? `has a code until ${shortTime(one.codeUntil ?? 0)}` : one.url === null ? 'asks this host' : `is asked at ${one.url}`;

/** Other hosts that rehearse for this one, from outside. */
export function Witnesses() {
  const [isAdding, setAdding] = useState(false);
  const [removing, setRemoving] = useState<Witness | null>(null);
  return (
    <Panel
      title="Witnesses (hosts that test this one from outside)"
      aside={
        <button type="button" className="btn btn-sm btn-primary" onClick={() => setAdding(true)}>
          <Plus size={14} aria-hidden="true" /> Add a witness
        </button>
      }
    >
      <p className="soft mb-3 text-sm">
        The test that counts comes from another machine. A witness is another Tenedor server that runs the steps of a test from there. It
        connects only to this host’s addresses; this host does the same for it.
      </p>
      <Listing<Witness>
        name="witnesses"
        path="/witnesses"
        searchFor="witnesses"
        keyOf={(one) => one.name}
        nameOf={(one) => one.name}
        columns={[
          { heading: 'Name', sort: 'name', className: 'font-medium', cell: (one) => one.name },
          { heading: 'State', className: '[overflow-wrap:anywhere]', cell: stateOf },
          { heading: 'Tests for us', cell: (one) => (one.askedAt === null ? 'never' : fullTime(one.askedAt)) },
          { heading: 'Tests for it', cell: (one) => (one.asksAt === null ? 'never' : fullTime(one.asksAt)) },
        ]}
        orders={{ since: 'Since' }}
        actions={(one) => <IconButton icon={Trash2} label={`Remove ${one.name}`} title="Remove it" onClick={() => setRemoving(one)} />}
        empty={<Empty>No witnesses yet. Add one on both hosts: the first creates a code, the second uses it.</Empty>}
      />
      <Dialog title="Add a witness" open={isAdding} onClose={() => setAdding(false)}>
        {isAdding ? <AddForm onClose={() => setAdding(false)} /> : null}
      </Dialog>
      <Dialog title={`Remove ${removing?.name ?? ''}`} open={removing !== null} onClose={() => setRemoving(null)}>
        {removing ? <RemoveForm one={removing} onClose={() => setRemoving(null)} /> : null}
      </Dialog>
    </Panel>
  );
}

function AddForm({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState('');
  const [url, setUrl] = useState('');
  const [code, setCode] = useState('');
  const add = useChange<AddedWitness>(
    () =>
      call('POST', '/witnesses', {
        name: name.trim(),
        url: url.trim() === '' ? null : url.trim(),
        code: code.trim() === '' ? null : code.trim(),
        // Where this page is, the other host finds this one.
        ownUrl: window.location.origin,
      }),
    (added) => {
      if (added.givenCode === null) onClose();
    },
  );
  if (add.data?.givenCode)
    return (
      <div className="space-y-3 text-sm">
        <p>
          One-time code for {add.data.name}, good for an hour. Type it in there, with the name of this host and the address{' '}
          <span className="record-text">{window.location.origin}</span>.
        </p>
        <p className="flex items-center gap-3">
          <code className="record-text rounded-box bg-base-200 px-3 py-2 text-lg">{add.data.givenCode}</code>
          <CopyButton text={add.data.givenCode} what="the code" />
        </p>
        <div className="text-right">
          <button type="button" className="btn btn-primary" onClick={onClose}>
            Done
          </button>
        </div>
      </div>
    );
  return (
    <Form
      problem={add.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <Field field="name" label="Its host name">
        <input
          className="input w-full"
          required
          value={name}
          placeholder="reserve.provider.example"
          onChange={(event) => setName(event.target.value)}
        />
      </Field>
      <Field field="url" label="The address of its console" hint="With the code it gave you. Leave both empty to get a code for it.">
        <input
          className="input w-full"
          value={url}
          placeholder="https://reserve.provider.example:8443"
          onChange={(event) => setUrl(event.target.value)}
        />
      </Field>
      <Field field="code" label="Its one-time code">
        <input className="input w-full" value={code} autoComplete="off" onChange={(event) => setCode(event.target.value)} />
      </Field>
      <FormEnd
        action={url.trim() === '' && code.trim() === '' ? 'Get a code' : 'Connect both'}
        busy={add.isPending}
        problem={add.error}
        onCancel={onClose}
      />
    </Form>
  );
}

function RemoveForm({ one, onClose }: { one: Witness; onClose: () => void }) {
  const remove = useChange<object>(() => call('DELETE', `/witnesses/${part(one.name)}`), onClose);
  return (
    <Form
      problem={remove.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        remove.mutate();
      }}
    >
      <p className="text-sm">Neither host tests the other any more. Past tests stay.</p>
      <FormEnd action="Remove" busy={remove.isPending} problem={remove.error} onCancel={onClose} danger />
    </Form>
  );
}
