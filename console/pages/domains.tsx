import { Plus, Search } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import type { Customer, Domain, DomainPage as Page, Plan } from '../../src/api/schemas.ts';
import { call, useCall, useChange } from '../api.ts';
import { Answer, Dialog, Empty, Field, FormEnd, PageHead } from '../parts/blocks.tsx';
import { limitWords } from '../parts/limits.tsx';
import { Mark, Meter, Ready } from '../parts/marks.tsx';
import { ago, SUBJECT_NAMES, SUBJECTS, size } from '../parts/words.ts';

const PER_PAGE = 50;
const SORTS = {
  name: 'by name',
  customer: 'by customer',
  readiness: 'least ready first',
  mailboxes: 'most mailboxes first',
  storage: 'most storage first',
};

export function DomainsPage() {
  const [params, setParams] = useSearchParams();
  const [adding, setAdding] = useState(false);
  const search = params.get('search') ?? '';
  const sort = params.get('sort') ?? 'name';
  const offset = Number(params.get('offset') ?? 0);
  const query = useCall<Page>(`/domains?${new URLSearchParams({ search, sort, offset: String(offset), limit: String(PER_PAGE) })}`, {
    everyMs: 15_000,
  });
  const change = (name: string, value: string): void => {
    const next = new URLSearchParams(params);
    if (value === '' || (name === 'sort' && value === 'name') || (name === 'offset' && value === '0')) next.delete(name);
    else next.set(name, value);
    if (name !== 'offset') next.delete('offset');
    setParams(next, { replace: true });
  };
  return (
    <>
      <PageHead title="Domains">
        <button type="button" className="btn btn-primary btn-sm" onClick={() => setAdding(true)}>
          <Plus size={16} aria-hidden="true" /> Take on a domain
        </button>
      </PageHead>
      <div className="mb-3 flex flex-wrap gap-2">
        <label className="input input-sm w-full sm:w-72">
          <Search size={14} aria-hidden="true" />
          <input
            type="search"
            aria-label="Search domains"
            placeholder="Domain or customer"
            value={search}
            onChange={(event) => change('search', event.target.value)}
          />
        </label>
        <select
          className="select select-sm w-auto"
          aria-label="Order"
          value={sort}
          onChange={(event) => change('sort', event.target.value)}
        >
          {Object.entries(SORTS).map(([value, name]) => (
            <option key={value} value={value}>
              {name}
            </option>
          ))}
        </select>
      </div>
      <Answer query={query} rows={8}>
        {({ total, rows }) =>
          total === 0 ? (
            <div className="panel">
              {search === '' ? (
                <Empty
                  action={
                    <button type="button" className="btn btn-primary btn-sm" onClick={() => setAdding(true)}>
                      Take on a domain
                    </button>
                  }
                >
                  No domain is here yet. Take on the first one; its DKIM key is made with it, and its record sheet is ready at once.
                </Empty>
              ) : (
                <Empty
                  action={
                    <button type="button" className="btn btn-sm" onClick={() => change('search', '')}>
                      Show all
                    </button>
                  }
                >
                  No domain or customer matches “{search}”.
                </Empty>
              )}
            </div>
          ) : (
            <>
              <div className="panel overflow-x-auto">
                <table className="table table-sm">
                  <thead>
                    <tr>
                      <th scope="col">Domain</th>
                      <th scope="col">Ready</th>
                      {SUBJECTS.map((subject) => (
                        <th key={subject} scope="col">
                          {SUBJECT_NAMES[subject]}
                        </th>
                      ))}
                      <th scope="col">Sends in 24 hours</th>
                      <th scope="col" className="text-right">
                        Storage
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    {rows.map((one) => (
                      <Row key={one.id} one={one} />
                    ))}
                  </tbody>
                </table>
              </div>
              <Pager
                total={total}
                offset={offset}
                onChange={(next) => change('offset', String(next))}
                oldest={rows.reduce((oldest, one) => Math.min(oldest, one.checkedAt ?? oldest), Date.now())}
              />
            </>
          )
        }
      </Answer>
      <AddDomain open={adding} onClose={() => setAdding(false)} />
    </>
  );
}

function Row({ one }: { one: Domain }) {
  return (
    <tr className="hover:bg-base-200/60">
      <td>
        <Link to={`/domains/${one.name}`} className="link link-hover font-medium">
          {one.display}
        </Link>
        <span className="soft block text-xs">
          {one.customer}
          {one.role === 'home' ? '' : ` · role ${one.role}`}
          {one.twinOf ? ` · twin of ${one.twinOf}` : ''}
          {one.stops.length > 0 ? <span className="text-error"> · {one.stops.join(', ')}</span> : null}
        </span>
      </td>
      <td>
        <Ready points={one.readiness} />
      </td>
      {SUBJECTS.map((subject) => (
        <td key={subject}>
          <Mark verdict={one[subject]} what={SUBJECT_NAMES[subject]} />
        </td>
      ))}
      <td>{one.role === 'home' ? <DailyMeter one={one} /> : <span className="soft">–</span>}</td>
      <td className="whitespace-nowrap text-right">{size(one.usedBytes)}</td>
    </tr>
  );
}

function DailyMeter({ one }: { one: Domain }) {
  const daily = one.limits.find((limit) => limit.period === 'day' && limit.quantity === 'sends');
  return daily ? (
    <Meter used={daily.used} limit={daily.amount} label={`Sends of ${one.name} in 24 hours`} />
  ) : (
    <span className="soft">no limit</span>
  );
}

function Pager({ total, offset, onChange, oldest }: { total: number; offset: number; onChange: (offset: number) => void; oldest: number }) {
  return (
    <div className="soft mt-3 flex flex-wrap items-center justify-between gap-2 text-sm">
      <span>
        {offset + 1}–{Math.min(offset + PER_PAGE, total)} of {total.toLocaleString('en')} · oldest check {ago(oldest)}
      </span>
      {total > PER_PAGE ? (
        <span className="join">
          <button
            type="button"
            className="btn btn-sm join-item"
            disabled={offset === 0}
            onClick={() => onChange(Math.max(0, offset - PER_PAGE))}
          >
            Before
          </button>
          <button
            type="button"
            className="btn btn-sm join-item"
            disabled={offset + PER_PAGE >= total}
            onClick={() => onChange(offset + PER_PAGE)}
          >
            Next
          </button>
        </span>
      ) : null}
    </div>
  );
}

function AddDomain({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog title="Take on a domain" open={open} onClose={onClose}>
      <AddDomainForm onClose={onClose} />
    </Dialog>
  );
}

const NEW = '/new';

function AddDomainForm({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate();
  const customers = useCall<Customer[]>('/customers');
  const plans = useCall<Plan[]>('/plans');
  const [name, setName] = useState('');
  const [customer, setCustomer] = useState('');
  const [newCustomer, setNewCustomer] = useState('');
  const [plan, setPlan] = useState('');
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
      return call<Domain>('POST', '/domains', { name, customer: owner, plan: chosenPlan, role });
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
    <form onSubmit={submit}>
      <Field label="Domain" hint="Like shop.example; letters beyond a–z are fine.">
        <input className="input w-full" autoFocus required value={name} onChange={(event) => setName(event.target.value)} />
      </Field>
      <Field label="Customer">
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
        <Field label="Name of the new customer">
          <input className="input w-full" required value={newCustomer} onChange={(event) => setNewCustomer(event.target.value)} />
        </Field>
      ) : null}
      <Field label="Plan" {...(plans.data?.length === 0 ? { hint: 'There is no plan yet; add one on the page Customers.' } : {})}>
        <select className="select w-full" required value={chosenPlan} onChange={(event) => setPlan(event.target.value)}>
          {plans.data?.map((one) => (
            <option key={one.id} value={one.name}>
              {one.name}: {one.limits.map(limitWords).join(', ') || 'no limit'}; {size(one.quotaBytes)} a mailbox
            </option>
          ))}
        </select>
      </Field>
      <Field
        label="Role"
        hint="“away” is for a domain whose web site is here and whose mail is not; with “pass-on” and “standby” another server has the mailboxes."
      >
        <select className="select w-full" value={role} onChange={(event) => setRole(event.target.value)}>
          <option value="home">home: its mailboxes live here</option>
          <option value="away">away: its mail lives elsewhere</option>
          <option value="pass-on">pass-on: handed on to another server (not yet)</option>
          <option value="standby">standby: kept while another server is down (not yet)</option>
        </select>
      </Field>
      <FormEnd action="Take it on" busy={add.isPending} problem={add.error} onCancel={onClose} />
    </form>
  );
}
