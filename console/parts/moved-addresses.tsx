import { Plus, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { MovedAddress } from '../../src/api/moved-schemas.ts';
import { call, part, useChange } from '../api.ts';
import { AskFirst } from './ask-first.tsx';
import { Empty, Panel, ProblemNote } from './blocks.tsx';
import { Dialog, Field, Form, FormEnd } from './forms.tsx';
import { Listing } from './listing.tsx';
import { day } from './words.ts';

/** Addresses of a domain whose owner has gone elsewhere. */
export function MovedAddresses({ domain }: { domain: string }) {
  const [isAdding, setAdding] = useState(false);
  const remove = useChange<object, MovedAddress>((one) => call('DELETE', `/moved-addresses/${part(one.address)}`));
  return (
    <Panel
      title="Moved away"
      aside={
        <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
          <Plus size={14} aria-hidden="true" /> Add a moved address
        </button>
      }
    >
      {remove.error ? <ProblemNote problem={remove.error} /> : null}
      <Listing<MovedAddress>
        name="moved"
        path={`/domains/${part(domain)}/moved-addresses`}
        searchFor="moved addresses"
        keyOf={(one) => one.address}
        nameOf={(one) => one.address}
        columns={[
          { heading: 'Address', sort: 'address', className: 'font-medium', cell: (one) => one.address },
          { heading: 'New address', className: '[overflow-wrap:anywhere]', cell: (one) => one.to ?? 'not told' },
          {
            heading: 'Mail is',
            cell: (one) =>
              one.forwardUntil !== null && one.forwardUntil > Date.now()
                ? `forwarded until ${day(one.forwardUntil)}`
                : one.to === null
                  ? 'refused'
                  : 'refused, with the new address',
          },
        ]}
        actions={(one) => (
          <AskFirst
            icon={Trash2}
            label={`Remove ${one.address}`}
            title="Remove moved address"
            question={`The address ${one.address} is free again; until it is used, its mail will be refused as unknown.`}
            action="Remove"
            disabled={remove.isPending}
            act={() => remove.mutate(one)}
          />
        )}
        empty={
          <Empty>
            No moved addresses. When a user leaves, their mail can be forwarded for a while and then refused with the new address.
          </Empty>
        }
      />
      <Dialog title="Add a moved address" open={isAdding} onClose={() => setAdding(false)}>
        <MoveForm domain={domain} onClose={() => setAdding(false)} />
      </Dialog>
    </Panel>
  );
}

function MoveForm({ domain, onClose }: { domain: string; onClose: () => void }) {
  const [local, setLocal] = useState('');
  const [to, setTo] = useState('');
  const [days, setDays] = useState('30');
  const add = useChange<MovedAddress>(
    () =>
      call('POST', '/moved-addresses', {
        address: `${local.trim()}@${domain}`,
        to: to.trim() === '' ? null : to.trim(),
        forwardDays: to.trim() === '' ? 0 : Number(days),
      }),
    onClose,
  );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    add.mutate();
  };
  return (
    <Form problem={add.error} onSubmit={submit}>
      <Field
        field="address"
        label={`Name before @${domain}`}
        hint="Remove its mailbox or alias first. A removed mailbox is kept for some days."
      >
        <input className="input w-full" required maxLength={64} value={local} onChange={(event) => setLocal(event.target.value)} />
      </Field>
      <Field field="to" label="New address" hint="Senders see it. Leave empty to keep it private.">
        <input className="input w-full" maxLength={320} value={to} onChange={(event) => setTo(event.target.value)} />
      </Field>
      {to.trim() === '' ? null : (
        <Field field="forwardDays" label="Days to forward mail">
          <input
            className="input w-full"
            type="number"
            min={0}
            max={3660}
            required
            value={days}
            onChange={(event) => setDays(event.target.value)}
          />
        </Field>
      )}
      <FormEnd action="Add" busy={add.isPending} problem={add.error} onCancel={onClose} />
    </Form>
  );
}
