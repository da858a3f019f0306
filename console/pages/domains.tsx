import { Mail, Pencil, Plus, RotateCw } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import type { LetterToWrite } from '../../src/api/dns-schemas.ts';
import type { Customer, Domain, Plan } from '../../src/api/schemas.ts';
import { SUBJECTS } from '../../src/core/vocabulary.ts';
import { call, part, useAll, useChange } from '../api.ts';
import { Empty, PageHead, Panel } from '../parts/blocks.tsx';
import { Dialog, Field, Form, FormEnd } from '../parts/forms.tsx';
import { limitLine } from '../parts/limits.tsx';
import type { Column } from '../parts/list-parts.tsx';
import { Listing } from '../parts/listing.tsx';
import { ManyForm } from '../parts/many-form.tsx';
import { Mark, Meter, Ready } from '../parts/marks.tsx';
import { ago, size, subjectName } from '../parts/words.ts';

export function DomainsPage() {
  const [adding, setAdding] = useState(false);
  const [writing, setWriting] = useState(false);
  const [many, setMany] = useState<{ act: 'check' | 'plan'; rows: Domain[] } | null>(null);
  const take = (
    <button type="button" className="btn btn-primary btn-sm" onClick={() => setAdding(true)}>
      <Plus size={16} aria-hidden="true" /> Add a domain
    </button>
  );
  return (
    <>
      <PageHead title="Domains">
        <button type="button" className="btn btn-sm" onClick={() => setWriting(true)}>
          <Mail size={16} aria-hidden="true" /> Who to contact
        </button>
        {take}
      </PageHead>
      <Panel>
        <Listing<Domain>
          name=""
          path="/domains"
          everyMs={15_000}
          searchFor="domains and customers"
          keyOf={(one) => one.id}
          nameOf={(one) => one.name}
          columns={COLUMNS}
          orders={{ customer: 'Customer', mailboxes: 'Number of mailboxes' }}
          many={[
            { name: 'Check', icon: RotateCw, onAct: (rows) => setMany({ act: 'check', rows }) },
            { name: 'Change the plan of', icon: Pencil, onAct: (rows) => setMany({ act: 'plan', rows }) },
          ]}
          foot={(rows) => <> · oldest check {ago(rows.reduce((oldest, one) => Math.min(oldest, one.checkedAt ?? oldest), Date.now()))}</>}
          empty={<Empty action={take}>No domains yet. Add the first one; its DKIM key and record sheet are created with it.</Empty>}
        />
      </Panel>
      <Dialog title="Customers whose DNS needs changes" open={writing} onClose={() => setWriting(false)} wide>
        <Letters />
      </Dialog>
      <AddDomain open={adding} onClose={() => setAdding(false)} />
      <Dialog
        title={many?.act === 'plan' ? 'Change the plan of several domains' : 'Check several domains'}
        open={many !== null}
        onClose={() => setMany(null)}
      >
        {many?.act === 'check' ? (
          <ManyForm
            rows={many.rows}
            nameOf={(one) => one.name}
            words="Their DNS records will be checked now:"
            action="Check them"
            act={(one) => call('POST', `/domains/${part(one.name)}/check`, {})}
            onClose={() => setMany(null)}
          />
        ) : null}
        {many?.act === 'plan' ? <PlanOfMany rows={many.rows} onClose={() => setMany(null)} /> : null}
      </Dialog>
    </>
  );
}

/** By the last checks; each letter is read where its records are. */
function Letters() {
  return (
    <Listing<LetterToWrite>
      name="letters"
      path="/letters"
      searchFor="letters"
      keyOf={(one) => one.domain}
      nameOf={(one) => one.domain}
      columns={[
        {
          heading: 'Customer',
          sort: 'customer',
          cell: (one) => (
            <>
              <span className="font-medium">{one.customer}</span>
              <span className="soft block text-xs">{one.contact ?? 'no contact'}</span>
            </>
          ),
        },
        {
          heading: 'Domain',
          sort: 'domain',
          cell: (one) => (
            <Link className="link link-hover" to={`/domains/${one.domain}?tab=records`}>
              {one.domain}
            </Link>
          ),
        },
        { heading: 'What to change', cell: (one) => one.about.join(', ') },
        { heading: 'Checked', sort: 'checked', className: 'soft whitespace-nowrap', cell: (one) => ago(one.checkedAt) },
      ]}
      empty={<Empty>No customer needs to change anything, by the last checks.</Empty>}
    />
  );
}

function PlanOfMany({ rows, onClose }: { rows: Domain[]; onClose: () => void }) {
  const plans = useAll<Plan>('/plans');
  const [plan, setPlan] = useState('');
  return (
    <ManyForm
      rows={rows}
      nameOf={(one) => one.name}
      words="The new plan applies immediately, except where a domain has its own setting:"
      action="Save"
      act={(one) => call('PATCH', `/domains/${part(one.name)}`, { plan })}
      onClose={onClose}
    >
      <Field field="plan" label="Plan">
        <select className="select w-full" required value={plan} onChange={(event) => setPlan(event.target.value)}>
          <option value="" disabled>
            choose one
          </option>
          {plans.data?.map((one) => (
            <option key={one.id}>{one.name}</option>
          ))}
        </select>
      </Field>
    </ManyForm>
  );
}

const COLUMNS: Column<Domain>[] = [
  {
    heading: 'Domain',
    sort: 'name',
    cell: (one) => (
      <>
        <Link to={`/domains/${one.name}`} className="link link-hover font-medium">
          {one.display}
        </Link>
        <span className="soft block text-xs">
          {one.customer}
          {one.role === 'home' ? '' : ` · role ${one.role}`}
          {one.twinOf ? ` · twin of ${one.twinOf}` : ''}
          {one.stops.length > 0 ? <span className="text-error"> · {one.stops.join(', ')}</span> : null}
        </span>
      </>
    ),
  },
  { heading: 'Readiness', sort: 'readiness', cell: (one) => <Ready points={one.readiness} /> },
  ...SUBJECTS.map((subject) => ({
    heading: subjectName(subject),
    cell: (one: Domain) => <Mark verdict={one[subject]} what={subjectName(subject)} />,
  })),
  { heading: 'Sends in 24 hours', cell: (one) => (one.role === 'home' ? <DailyMeter one={one} /> : <span className="soft">–</span>) },
  {
    heading: 'Storage',
    sort: 'storage',
    down: true,
    className: 'whitespace-nowrap text-right',
    cell: (one) => size(one.usedBytes),
  },
];

function DailyMeter({ one }: { one: Domain }) {
  const daily = one.limits.find((limit) => limit.period === 'day' && limit.quantity === 'sends');
  return daily ? (
    <Meter used={daily.used} limit={daily.amount} label={`Sends of ${one.name} in 24 hours`} />
  ) : (
    <span className="soft">no limit</span>
  );
}

function AddDomain({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog title="Add a domain" open={open} onClose={onClose}>
      <AddDomainForm onClose={onClose} />
    </Dialog>
  );
}

const NEW = '/new';

function AddDomainForm({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate();
  const customers = useAll<Customer>('/customers');
  const plans = useAll<Plan>('/plans');
  const [name, setName] = useState('');
  const [customer, setCustomer] = useState('');
  const [newCustomer, setNewCustomer] = useState('');
  const [plan, setPlan] = useState('');
  const [primaryServer, setPrimaryServer] = useState('');
  const [role, setRole] = useState('home');
  const chosenCustomer = customer || (customers.data?.length === 0 ? NEW : (customers.data?.[0]?.name ?? ''));
  const chosenPlan = plan || (plans.data?.find((one) => one.name === 'standard') ?? plans.data?.[0])?.name || '';
  const add = useChange<Domain>(
    async () => {
      let owner = chosenCustomer;
      if (owner === NEW) {
        owner = (await call<Customer>('POST', '/customers', { name: newCustomer })).name;
        // Should the domain be refused, the customer is there already for the next try.
        await customers.refetch();
        setCustomer(owner);
      }
      return call<Domain>('POST', '/domains', {
        name,
        customer: owner,
        plan: chosenPlan,
        role,
        ...(role === 'pass-on' ? { primaryServer } : {}),
      });
    },
    (domain) => {
      onClose();
      return navigate(`/domains/${domain.name}`);
    },
  );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    add.mutate();
  };
  return (
    <Form problem={add.error} onSubmit={submit}>
      {/* The customer comes first: until there is one, a wrong name is its. */}
      <Field
        {...(chosenCustomer === NEW ? {} : { field: 'name' })}
        label="Domain"
        hint="For example shop.example. International names are accepted."
      >
        <input className="input w-full" autoFocus required value={name} onChange={(event) => setName(event.target.value)} />
      </Field>
      <Field field="customer" label="Customer">
        <select className="select w-full" value={chosenCustomer} onChange={(event) => setCustomer(event.target.value)}>
          {customers.data?.map((one) => (
            <option key={one.id} value={one.name}>
              {one.name}
            </option>
          ))}
          <option value={NEW}>A new customer …</option>
        </select>
      </Field>
      {chosenCustomer === NEW ? (
        <Field field="name" label="Name of the new customer">
          <input className="input w-full" required value={newCustomer} onChange={(event) => setNewCustomer(event.target.value)} />
        </Field>
      ) : null}
      <Field
        field="plan"
        label="Plan"
        {...(plans.data?.length === 0 ? { hint: 'There are no plans yet. Add one on the Customers page.' } : {})}
      >
        <select className="select w-full" required value={chosenPlan} onChange={(event) => setPlan(event.target.value)}>
          {plans.data?.map((one) => (
            <option key={one.id} value={one.name}>
              {one.name}: {one.limits.map(limitLine).join(', ') || 'no limit'}; {size(one.quotaBytes)} a mailbox
            </option>
          ))}
        </select>
      </Field>
      <Field field="role" label="Role" hint="“away”: mail is elsewhere. “pass-on” and “standby”: another server has the mailboxes.">
        <select className="select w-full" value={role} onChange={(event) => setRole(event.target.value)}>
          <option value="home">home: mailboxes are here</option>
          <option value="away">away: mail is elsewhere</option>
          <option value="pass-on">pass-on: relayed to another server immediately</option>
          <option value="standby">standby: backup MX for another server</option>
        </select>
      </Field>
      {role === 'pass-on' ? (
        <Field
          field="primaryServer"
          label="The other server"
          hint="The host with the mailboxes, like mail.shop.example or mail.shop.example:2525."
        >
          <input className="input w-full" required value={primaryServer} onChange={(event) => setPrimaryServer(event.target.value)} />
        </Field>
      ) : null}
      <FormEnd action="Add the domain" busy={add.isPending} problem={add.error} onCancel={onClose} />
    </Form>
  );
}
