import { Plus, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { MovedAddress } from '../../src/api/moved-schemas.ts';
import { call, part, useChange } from '../api.ts';
import { Empty, IconButton, Panel, ProblemNote } from './blocks.tsx';
import { Dialog, Field, Form, FormEnd } from './forms.tsx';
import { Listing } from './listing.tsx';
import { day } from './words.ts';

/** Addresses of a domain whose owner has gone elsewhere. */
export function MovedAddresses({ domain }: { domain: string }) {
  const [isAdding, setAdding] = useState(false);
  const forget = useChange<object, MovedAddress>((one) => call('DELETE', `/moved-addresses/${part(one.address)}`));
  return (
    <Panel
      title="Moved away"
      aside={
        <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
          <Plus size={14} aria-hidden="true" /> Say that one has moved
        </button>
      }
    >
      {forget.error ? <ProblemNote problem={forget.error} /> : null}
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
                ? `led there until ${day(one.forwardUntil)}`
                : one.to === null
                  ? 'refused'
                  : 'refused, with the new address',
          },
        ]}
        actions={(one) => (
          <IconButton
            icon={Trash2}
            label={`Forget that ${one.address} has moved`}
            title="Forget it: the address is free"
            disabled={forget.isPending}
            onClick={() => forget.mutate(one)}
          />
        )}
        empty={
          <Empty>No address has moved. Who leaves is not lost: mail is led to the new address for a while, and then refused with it.</Empty>
        }
      />
      <Dialog title="An address has moved" open={isAdding} onClose={() => setAdding(false)}>
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
        hint="Its mailbox or alias has to be removed first; a removed mailbox is kept for some days."
      >
        <input className="input w-full" required maxLength={64} value={local} onChange={(event) => setLocal(event.target.value)} />
      </Field>
      <Field field="to" label="New address" hint="Told to whoever writes. Empty: nobody is told.">
        <input className="input w-full" maxLength={320} value={to} onChange={(event) => setTo(event.target.value)} />
      </Field>
      {to.trim() === '' ? null : (
        <Field field="forwardDays" label="Days for which mail is led there">
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
      <FormEnd action="Say so" busy={add.isPending} problem={add.error} onCancel={onClose} />
    </Form>
  );
}
