import { Pencil, Plus, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import { Link } from 'react-router';
import type { Customer, Plan } from '../../src/api/schemas.ts';
import { call, part, useChange } from '../api.ts';
import { Empty, IconButton, PageHead, Panel } from '../parts/blocks.tsx';
import { Dialog, Field, Form, FormEnd } from '../parts/forms.tsx';
import { limitLine } from '../parts/limits.tsx';
import { Listing } from '../parts/listing.tsx';
import { PlanForm } from '../parts/plan-form.tsx';
import { SendingButton } from '../parts/sending-dialog.tsx';
import { count, size } from '../parts/words.ts';

type Open =
  | { kind: 'customer'; one: Customer | null }
  | { kind: 'plan'; one: Plan | null }
  | { kind: 'remove'; path: string; name: string }
  | null;

export function CustomersPage() {
  const [open, setOpen] = useState<Open>(null);
  const close = (): void => setOpen(null);
  return (
    <>
      <PageHead title="Customers and plans" />
      <div className="grid grid-cols-1 items-start gap-4 lg:grid-cols-[5fr_9fr]">
        <Panel
          title="Customers"
          aside={
            <button type="button" className="btn btn-sm btn-primary" onClick={() => setOpen({ kind: 'customer', one: null })}>
              <Plus size={14} aria-hidden="true" /> Add a customer
            </button>
          }
        >
          <Listing<Customer>
            name="customers"
            path="/customers"
            searchFor="customers"
            keyOf={(one) => one.id}
            nameOf={(one) => one.name}
            columns={[
              { heading: 'Customer', sort: 'name', className: 'font-medium', cell: (one) => one.name },
              {
                heading: 'Domains',
                sort: 'domains',
                down: true,
                className: 'whitespace-nowrap',
                cell: (one) => (
                  <Link className="link link-hover" to={`/domains?search=${part(one.name)}`}>
                    {count(one.domains, 'domain')}
                  </Link>
                ),
              },
            ]}
            actions={(one) => (
              <>
                <SendingButton scope={`customer:${one.name}`} name={one.name} />
                <IconButton icon={Pencil} label={`Change ${one.name}`} title="Change" onClick={() => setOpen({ kind: 'customer', one })} />
                <IconButton
                  icon={Trash2}
                  label={`Remove ${one.name}`}
                  title={one.domains > 0 ? 'Has domains' : 'Remove'}
                  disabled={one.domains > 0}
                  onClick={() => setOpen({ kind: 'remove', path: `/customers/${part(one.name)}`, name: one.name })}
                />
              </>
            )}
            empty={<Empty>No customers yet.</Empty>}
          />
        </Panel>
        <Panel
          title="Plans"
          aside={
            <button type="button" className="btn btn-sm" onClick={() => setOpen({ kind: 'plan', one: null })}>
              <Plus size={14} aria-hidden="true" /> Add a plan
            </button>
          }
        >
          <Listing<Plan>
            name="plans"
            path="/plans"
            searchFor="plans"
            keyOf={(one) => one.id}
            nameOf={(one) => `the plan ${one.name}`}
            columns={[
              {
                heading: 'Plan',
                sort: 'name',
                className: 'font-medium',
                cell: (one) => (
                  <>
                    {one.name}
                    <span className="soft block font-normal text-xs">{count(one.domains, 'domain')}</span>
                  </>
                ),
              },
              {
                heading: 'A domain may send',
                cell: (one) => (
                  <>
                    {one.limits.map(limitLine).join(', ') || 'any number'}
                    {one.mailboxLimits.length > 0 ? (
                      <div className="soft text-xs">a mailbox: {one.mailboxLimits.map(limitLine).join(', ')}</div>
                    ) : null}
                  </>
                ),
              },
              { heading: 'When full', cell: (one) => one.whenFull },
              { heading: 'Quota', className: 'whitespace-nowrap', cell: (one) => size(one.quotaBytes) },
              { heading: 'Mailboxes', cell: (one) => one.mostMailboxes },
            ]}
            orders={{ domains: 'Number of domains' }}
            actions={(one) => (
              <>
                <IconButton
                  icon={Pencil}
                  label={`Change the plan ${one.name}`}
                  title="Change"
                  onClick={() => setOpen({ kind: 'plan', one })}
                />
                <IconButton
                  icon={Trash2}
                  label={`Remove the plan ${one.name}`}
                  title={one.domains > 0 ? 'In use' : 'Remove'}
                  disabled={one.domains > 0}
                  onClick={() => setOpen({ kind: 'remove', path: `/plans/${part(one.name)}`, name: one.name })}
                />
              </>
            )}
            empty={<Empty>No plans yet. A plan sets the limits of its domains.</Empty>}
          />
          <p className="soft mt-2 text-sm">
            A plan’s limits apply immediately to every domain without its own. Quota and number apply to new mailboxes.
          </p>
        </Panel>
      </div>
      <Dialog
        title={open?.kind === 'customer' && open.one ? `Change ${open.one.name}` : 'Add a customer'}
        open={open?.kind === 'customer'}
        onClose={close}
      >
        <CustomerForm one={open?.kind === 'customer' ? open.one : null} onClose={close} />
      </Dialog>
      <Dialog
        title={open?.kind === 'plan' && open.one ? `Change the plan ${open.one.name}` : 'Add a plan'}
        open={open?.kind === 'plan'}
        onClose={close}
      >
        <PlanForm one={open?.kind === 'plan' ? open.one : null} onClose={close} />
      </Dialog>
      <Dialog title={open?.kind === 'remove' ? `Remove ${open.name}` : 'Remove'} open={open?.kind === 'remove'} onClose={close}>
        {open?.kind === 'remove' ? <RemoveForm path={open.path} name={open.name} onClose={close} /> : null}
      </Dialog>
    </>
  );
}

function CustomerForm({ one, onClose }: { one: Customer | null; onClose: () => void }) {
  const [name, setName] = useState(one?.name ?? '');
  const [contact, setContact] = useState(one?.contact ?? '');
  const save = useChange<Customer>(() => {
    const body = { name, contact: contact.trim() === '' ? null : contact };
    return one ? call('PATCH', `/customers/${part(one.name)}`, body, one.revision) : call('POST', '/customers', body);
  }, onClose);
  return (
    <Form
      problem={save.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      <Field field="name" label="Name">
        <input className="input w-full" autoFocus required value={name} onChange={(event) => setName(event.target.value)} />
      </Field>
      <Field field="contact" label="Contact" hint="Gets warnings about its domains by mail.">
        <input className="input w-full" type="email" value={contact} onChange={(event) => setContact(event.target.value)} />
      </Field>
      <FormEnd action={one ? 'Save' : 'Add the customer'} busy={save.isPending} problem={save.error} onCancel={onClose} />
    </Form>
  );
}

function RemoveForm({ path, name, onClose }: { path: string; name: string; onClose: () => void }) {
  const remove = useChange<object>(() => call('DELETE', path), onClose);
  return (
    <Form
      problem={remove.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        remove.mutate();
      }}
    >
      <p className="text-sm">“{name}” has no domains; nothing else is removed.</p>
      <FormEnd action="Remove" busy={remove.isPending} problem={remove.error} onCancel={onClose} danger />
    </Form>
  );
}
