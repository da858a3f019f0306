import { Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Zone } from '../../src/api/dns-schemas.ts';
import { TSIG_ALGORITHMS } from '../../src/core/vocabulary.ts';
import { call, part, useChange } from '../api.ts';
import { AskFirst } from './ask-first.tsx';
import { Panel, ProblemNote } from './blocks.tsx';
import { Dialog, Field, Form, FormEnd } from './forms.tsx';
import { Listing } from './listing.tsx';

export function Zones() {
  const [setting, setSetting] = useState(false);
  const remove = useChange<object, string>((name) => call('DELETE', `/zones/${part(name)}`));
  return (
    <Panel
      title="Zones updated from here"
      aside={
        <button type="button" className="btn btn-sm" onClick={() => setSetting(true)}>
          Set a zone
        </button>
      }
    >
      <p className="soft mb-3 text-sm">For DNS that you run: records are published by signed dynamic update (RFC 2136).</p>
      {remove.error ? <ProblemNote problem={remove.error} /> : null}
      <Listing<Zone>
        name="zones"
        path="/zones"
        searchFor="zones"
        keyOf={(one) => one.id}
        nameOf={(one) => one.name}
        columns={[
          { heading: 'Zone', sort: 'name', className: 'record-text', cell: (one) => one.name },
          {
            heading: 'Server',
            sort: 'server',
            className: 'record-text',
            cell: (one) => `${one.server}${one.port === 53 ? '' : ` port ${one.port}`}`,
          },
          { heading: 'Key', className: 'record-text', cell: (one) => one.keyName },
        ]}
        actions={(one) => (
          <AskFirst
            icon={Trash2}
            label={`Remove zone ${one.name}`}
            title="Remove zone"
            question={`The key of the zone ${one.name} will be deleted, and its records are no longer published from here. The zone itself does not change.`}
            action="Remove"
            act={() => remove.mutate(one.name)}
          />
        )}
        empty={<p className="soft py-2 text-sm">No zones yet.</p>}
      />
      <Dialog title="Set a zone" open={setting} onClose={() => setSetting(false)}>
        <ZoneForm onClose={() => setSetting(false)} />
      </Dialog>
    </Panel>
  );
}

function ZoneForm({ onClose }: { onClose: () => void }) {
  const [values, setValues] = useState({ name: '', server: '', port: '53', keyName: '', algorithm: 'hmac-sha256', secret: '' });
  const set = useChange<Zone>(() => call('PUT', '/zones', { ...values, port: Number(values.port) }), onClose);
  const input = (key: keyof typeof values, type = 'text') => (
    <input
      className="input w-full"
      type={type}
      autoComplete="off"
      required
      value={values[key]}
      onChange={(event) => setValues({ ...values, [key]: event.target.value })}
    />
  );
  return (
    <Form
      problem={set.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        set.mutate();
      }}
    >
      <Field label="Zone">{input('name')}</Field>
      <Field label="Address of its primary name server">{input('server')}</Field>
      <Field label="Port">{input('port', 'number')}</Field>
      <Field label="Name of the TSIG key">{input('keyName')}</Field>
      <Field field="algorithm" label="Algorithm">
        <select
          className="select w-full"
          value={values.algorithm}
          onChange={(event) => setValues({ ...values, algorithm: event.target.value })}
        >
          {TSIG_ALGORITHMS.map((one) => (
            <option key={one}>{one}</option>
          ))}
        </select>
      </Field>
      <Field label="Secret (base64)" hint="It is never shown again.">
        {input('secret', 'password')}
      </Field>
      <FormEnd action="Set it" busy={set.isPending} problem={set.error} onCancel={onClose} />
    </Form>
  );
}
