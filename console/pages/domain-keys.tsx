import { type FormEvent, useState } from 'react';
import type { Key } from '../../src/api/dns-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { call, part, useAll, useChange } from '../api.ts';
import { Answer, Panel } from '../parts/blocks.tsx';
import { RecordForms } from '../parts/findings.tsx';
import { Dialog, Field, Form, FormEnd } from '../parts/forms.tsx';
import { ago, day } from '../parts/words.ts';

const STATES: Record<Key['state'], string> = {
  prepared: 'badge-info',
  active: 'badge-success',
  retiring: 'badge-warning',
  retired: 'badge-neutral',
};

type Asked = { act: 'activate' | 'retire' | 'remove'; key: Key };
const TITLES: Record<Asked['act'], string> = { activate: 'Activate the key', retire: 'Retire the key', remove: 'Remove the key' };

/** The domain's DKIM keys through their life. */
export function KeysTab({ domain }: { domain: Domain }) {
  const query = useAll<Key>(`/domains/${part(domain.name)}/keys`, { everyMs: 10_000 });
  const [preparing, setPreparing] = useState(false);
  const [asked, setAsked] = useState<Asked | null>(null);
  return (
    <Panel
      title="DKIM keys"
      aside={
        <button type="button" className="btn btn-sm btn-primary" onClick={() => setPreparing(true)}>
          Prepare a key
        </button>
      }
    >
      <p className="soft mb-3 text-sm">
        Prepare a key, publish its record, and activate it once the record is correct. The old key stays published while messages with its
        signature may be in transit.
      </p>
      <Answer query={query}>
        {(keys) => (
          <ul className="divide-y divide-base-300">
            {keys.map((key) => (
              <li key={key.id} className="py-3" aria-label={`Key ${key.selector}`}>
                <div className="flex flex-wrap items-center gap-3">
                  <span className="record-text font-medium">{key.selector}</span>
                  <span className={`badge badge-soft badge-sm ${STATES[key.state]}`}>{key.state}</span>
                  <span className="soft text-sm">
                    {key.type === 'rsa' ? 'RSA' : 'Ed25519'} · since {day(key.changedAt)}, made {ago(key.createdAt)}
                  </span>
                  <span className="ml-auto flex gap-2">
                    {key.state === 'prepared' ? (
                      <button type="button" className="btn btn-sm" onClick={() => setAsked({ act: 'activate', key })}>
                        Activate {key.selector}
                      </button>
                    ) : null}
                    {key.state === 'active' || key.state === 'retiring' ? (
                      <button type="button" className="btn btn-sm btn-ghost" onClick={() => setAsked({ act: 'retire', key })}>
                        Retire {key.selector}
                      </button>
                    ) : (
                      <button type="button" className="btn btn-sm btn-ghost" onClick={() => setAsked({ act: 'remove', key })}>
                        Remove {key.selector}
                      </button>
                    )}
                  </span>
                </div>
                {key.next ? <p className="mt-1 text-sm">{key.next}</p> : null}
                {key.state === 'retired' ? null : (
                  <details className="mt-1" open={key.state === 'prepared'}>
                    <summary className="soft cursor-pointer text-xs">Its record</summary>
                    <RecordForms record={key.record} />
                  </details>
                )}
              </li>
            ))}
          </ul>
        )}
      </Answer>
      <Dialog title="Prepare a key" open={preparing} onClose={() => setPreparing(false)}>
        <PrepareForm domain={domain.name} onClose={() => setPreparing(false)} />
      </Dialog>
      <Dialog title={asked ? TITLES[asked.act] : ''} open={asked !== null} onClose={() => setAsked(null)}>
        {asked ? <ActForm domain={domain.name} asked={asked} onClose={() => setAsked(null)} /> : null}
      </Dialog>
    </Panel>
  );
}

function PrepareForm({ domain, onClose }: { domain: string; onClose: () => void }) {
  const [type, setType] = useState('rsa');
  const [selector, setSelector] = useState('');
  const [pem, setPem] = useState('');
  const prepare = useChange<Key>(
    () => call('POST', `/domains/${part(domain)}/keys`, { type, selector: selector.trim() || null, pem: pem.trim() || null }),
    onClose,
  );
  return (
    <Form
      problem={prepare.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        prepare.mutate();
      }}
    >
      <Field field="type" label="Kind" hint="Ed25519 signs in addition to RSA; not every receiver supports it yet.">
        <select className="select w-full" value={type} onChange={(event) => setType(event.target.value)}>
          <option value="rsa">RSA, 2048 bits</option>
          <option value="ed25519">Ed25519</option>
        </select>
      </Field>
      <Field field="selector" label="Selector" hint="Empty for one with today’s date.">
        <input className="input w-full" value={selector} onChange={(event) => setSelector(event.target.value)} />
      </Field>
      <Field field="pem" label="Private key to import (PEM)" hint="Empty to generate a key. It is never shown again.">
        <textarea className="textarea record-text w-full" rows={3} value={pem} onChange={(event) => setPem(event.target.value)} />
      </Field>
      <FormEnd action="Prepare it" busy={prepare.isPending} problem={prepare.error} onCancel={onClose} />
    </Form>
  );
}

const WORDS: Record<Asked['act'], string> = {
  activate: 'The published record is checked first. The key then signs, and the current key of its kind is retired after some days.',
  retire: 'It stops signing. Its record stays published while messages with its signature may be in transit.',
  remove: 'It is deleted for good.',
};

function ActForm({ domain, asked: { act, key }, onClose }: { domain: string; asked: Asked; onClose: () => void }) {
  const [force, setForce] = useState(false);
  const path = `/domains/${part(domain)}/keys/${part(key.selector)}`;
  const change = useChange<object>(() => (act === 'remove' ? call('DELETE', path) : call('POST', `${path}/${act}`, { force })), onClose);
  return (
    <Form
      problem={change.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <p className="text-sm">{WORDS[act]}</p>
      {act !== 'remove' && change.error ? (
        <label className="mt-3 flex items-center gap-2 text-sm">
          <input type="checkbox" className="checkbox checkbox-sm" checked={force} onChange={(event) => setForce(event.target.checked)} />
          Override (recorded in the journal)
        </label>
      ) : null}
      <FormEnd
        action={`${act === 'activate' ? 'Activate' : act === 'retire' ? 'Retire' : 'Remove'} it`}
        busy={change.isPending}
        problem={change.error}
        onCancel={onClose}
        danger={act === 'remove' || force}
      />
    </Form>
  );
}
