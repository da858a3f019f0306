import { type FormEvent, useState } from 'react';
import { useNavigate } from 'react-router';
import type { Customer, Domain, Plan } from '../../src/api/schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Field, Panel, ProblemNote } from '../parts/blocks.tsx';
import { RemoveDialog } from '../parts/remove.tsx';

export function SettingsTab({ domain }: { domain: Domain }) {
  const navigate = useNavigate();
  const customers = useCall<Customer[]>('/customers');
  const plans = useCall<Plan[]>('/plans');
  const [customer, setCustomer] = useState(domain.customer);
  const [plan, setPlan] = useState(domain.plan);
  const [role, setRole] = useState<string>(domain.role);
  const [judge, setJudge] = useState<string>(domain.judge);
  const [dmarc, setDmarc] = useState<string>(domain.dmarcStage);
  const [removing, setRemoving] = useState(false);
  const change = useChange<Domain>(() => call('PATCH', `/domains/${part(domain.name)}`, { customer, plan, role, judge, dmarc }));
  const changed =
    customer !== domain.customer || plan !== domain.plan || role !== domain.role || judge !== domain.judge || dmarc !== domain.dmarcStage;
  return (
    <div className="grid gap-4 lg:grid-cols-2">
      <Panel title="Whose, which plan, what role, how strict">
        <form
          onSubmit={(event: FormEvent) => {
            event.preventDefault();
            change.mutate();
          }}
        >
          <Field label="Customer">
            <select className="select w-full" value={customer} onChange={(event) => setCustomer(event.target.value)}>
              {(customers.data ?? [{ id: 0, name: domain.customer }]).map((one) => (
                <option key={one.id}>{one.name}</option>
              ))}
            </select>
          </Field>
          <Field label="Plan" hint="A new plan brings its limits.">
            <select className="select w-full" value={plan} onChange={(event) => setPlan(event.target.value)}>
              {(plans.data ?? [{ id: 0, name: domain.plan }]).map((one) => (
                <option key={one.id}>{one.name}</option>
              ))}
            </select>
          </Field>
          <Field label="Role" hint="“pass-on” and “standby” are stored, and not served yet.">
            <select className="select w-full" value={role} onChange={(event) => setRole(event.target.value)}>
              {['home', 'away', 'pass-on', 'standby'].map((one) => (
                <option key={one}>{one}</option>
              ))}
            </select>
          </Field>
          <Field
            label="Incoming mail that DMARC finds forged"
            hint="note: only said in the message; junk: filed as junk; enforce: refused where its domain asks for that, else junk."
          >
            <select className="select w-full" value={judge} onChange={(event) => setJudge(event.target.value)}>
              {['note', 'junk', 'enforce'].map((one) => (
                <option key={one}>{one}</option>
              ))}
            </select>
          </Field>
          <Field
            label="Stage of the domain’s own DMARC policy"
            hint="The record sheet and the checks go by it. A stricter policy that is seen to be published takes it along."
          >
            <select className="select w-full" value={dmarc} onChange={(event) => setDmarc(event.target.value)}>
              <option value="none">watch (p=none)</option>
              <option value="quarantine">quarantine</option>
              <option value="reject">reject</option>
            </select>
          </Field>
          {change.error ? <ProblemNote problem={change.error} /> : null}
          <button type="submit" className="btn btn-primary btn-sm" disabled={!changed || change.isPending}>
            Change it
          </button>
        </form>
      </Panel>
      <Panel title="Remove the domain">
        <p className="soft mb-3 text-sm">
          Its mailboxes, messages, aliases, key and ledger go with it. You are shown what exactly before anything happens.
        </p>
        <button type="button" className="btn btn-error btn-outline btn-sm" onClick={() => setRemoving(true)}>
          Remove {domain.display} …
        </button>
      </Panel>
      <RemoveDialog
        what={removing ? { path: `/domains/${part(domain.name)}`, name: domain.name } : null}
        onClose={() => setRemoving(false)}
        onRemoved={() => void navigate('/domains')}
      />
    </div>
  );
}
