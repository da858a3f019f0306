import { type FormEvent, useState } from 'react';
import { useNavigate } from 'react-router';
import type { Customer, Domain, Plan, RecipientNames } from '../../src/api/schemas.ts';
import { ROLES } from '../../src/core/vocabulary.ts';
import { DOMAIN_FIELDS } from '../../src/resources/domain.ts';
import { call, part, useAll, useCall, useChange } from '../api.ts';
import { Panel } from '../parts/blocks.tsx';
import { FieldControl, useFieldForm } from '../parts/field-form.tsx';
import { Field, Form, FormProblem } from '../parts/forms.tsx';
import { RemoveDialog } from '../parts/remove.tsx';
import { TwinPanel } from '../parts/twin-panel.tsx';
import { size } from '../parts/words.ts';

/** The form is made anew when somebody else’s change is to be shown. */
export function SettingsTab({ domain }: { domain: Domain }) {
  const [edition, setEdition] = useState(0);
  return <Settings key={edition} domain={domain} onReopen={() => setEdition(edition + 1)} />;
}

function Settings({ domain, onReopen }: { domain: Domain; onReopen: () => void }) {
  const navigate = useNavigate();
  const customers = useAll<Customer>('/customers');
  const plans = useAll<Plan>('/plans');
  const [customer, setCustomer] = useState(domain.customer);
  const [plan, setPlan] = useState(domain.plan);
  const [role, setRole] = useState<string>(domain.role);
  const [dmarc, setDmarc] = useState<string>(domain.dmarcStage);
  // The form shows what was there when it was opened.
  const [opened, setOpened] = useState(domain.revision);
  const [removing, setRemoving] = useState(false);
  const form = useFieldForm(DOMAIN_FIELDS, domain);
  const elsewhere = role === 'pass-on' || role === 'standby';
  const known = useCall<RecipientNames>(`/domains/${part(domain.name)}/recipients`, { enabled: domain.recipientCount !== null });
  // As typed; null while nobody has typed anything.
  const [names, setNames] = useState<string | null>(null);
  const listed = names?.split(/\s+/).filter((one) => one !== '') ?? null;
  const isListed = domain.recipientCount !== null;
  // With another role a list means nothing any more.
  const recipients = elsewhere
    ? listed === null
      ? {}
      : { recipientList: listed.length > 0 ? listed : null }
    : isListed
      ? { recipientList: null }
      : {};
  const values = {
    customer,
    plan,
    role,
    dmarc,
    ...form.values,
    ...(elsewhere ? {} : { primaryServer: null }),
    ...recipients,
  };
  const change = useChange<Domain>(
    () => call('PATCH', `/domains/${part(domain.name)}`, values, opened),
    ({ revision }) => {
      setOpened(revision);
      setNames(null);
    },
  );
  const changed =
    customer !== domain.customer ||
    plan !== domain.plan ||
    role !== domain.role ||
    dmarc !== domain.dmarcStage ||
    form.isChanged ||
    (!elsewhere && domain.primaryServer !== null) ||
    names !== null;
  return (
    <div className="grid gap-4 lg:grid-cols-2">
      <Panel title="Settings of the domain">
        <Form
          problem={change.error}
          onSubmit={(event: FormEvent) => {
            event.preventDefault();
            change.mutate();
          }}
        >
          <Field field="customer" label="Customer">
            <select className="select w-full" value={customer} onChange={(event) => setCustomer(event.target.value)}>
              {(customers.data ?? [{ id: 0, name: domain.customer }]).map((one) => (
                <option key={one.id}>{one.name}</option>
              ))}
            </select>
          </Field>
          <Field field="plan" label="Plan" hint="Applies immediately, except where the domain has its own setting.">
            <select className="select w-full" value={plan} onChange={(event) => setPlan(event.target.value)}>
              {(plans.data ?? [{ id: 0, name: domain.plan }]).map((one) => (
                <option key={one.id}>{one.name}</option>
              ))}
            </select>
          </Field>
          <Field
            field="role"
            label="Role"
            hint="pass-on: mail goes to its own server immediately; standby (backup MX): mail is kept only while that server is down; away: never local."
          >
            <select className="select w-full" value={role} onChange={(event) => setRole(event.target.value)}>
              {ROLES.map((one) => (
                <option key={one}>{one}</option>
              ))}
            </select>
          </Field>
          {elsewhere ? (
            <>
              <FieldControl form={form} name="primaryServer" />
              <Field
                field="recipientList"
                label="Recipients there"
                hint="One per line. If empty, the other server is asked and its answers are cached."
              >
                <textarea
                  className="textarea w-full"
                  rows={3}
                  disabled={isListed && known.data === undefined}
                  value={names ?? known.data?.recipients?.join('\n') ?? ''}
                  onChange={(event) => setNames(event.target.value)}
                />
              </Field>
            </>
          ) : (
            <FieldControl form={form} name="catchAll" />
          )}
          <FieldControl form={form} name="mostBytes" />
          {role === 'home' ? (
            <div className="grid gap-x-3 sm:grid-cols-2">
              <FieldControl form={form} name="storageBytes" hint={`Empty for no limit; ${size(domain.usedBytes)} in use.`} />
              <FieldControl form={form} name="storageMessages" hint={`Empty for no limit; ${domain.usedMessages.toLocaleString('en')}.`} />
            </div>
          ) : null}
          <FieldControl form={form} name="fullMailbox" words={{ 'put-off': 'put off' }} />
          <FieldControl form={form} name="mailName" words={{ own: `mail.${domain.display}`, host: 'the host’s name' }} />
          <FieldControl form={form} name="isSampled" />
          <FieldControl form={form} name="judge" />
          <Field
            field="dmarc"
            label="Stage of the domain’s own DMARC policy"
            hint="Used by the record sheet and the checks. It follows a stricter published policy."
          >
            <select className="select w-full" value={dmarc} onChange={(event) => setDmarc(event.target.value)}>
              <option value="none">watch (p=none)</option>
              <option value="quarantine">quarantine</option>
              <option value="reject">reject</option>
            </select>
          </Field>
          <FormProblem problem={change.error} />
          {domain.revision !== opened && !change.isPending ? (
            <p role="status" className="my-2 rounded-box bg-warning/10 p-3 text-sm">
              These settings have changed since you opened them.
              <button type="button" className="btn btn-sm ml-3" onClick={onReopen}>
                Show the current settings
              </button>
            </p>
          ) : null}
          <button type="submit" className="btn btn-primary btn-sm" disabled={!changed || change.isPending}>
            Save
          </button>
        </Form>
      </Panel>
      <div className="space-y-4">
        <TwinPanel domain={domain} />
        <Panel title="Remove the domain">
          <p className="soft mb-3 text-sm">
            Its mailboxes, messages, aliases and keys are removed too. You see the full list before you confirm.
          </p>
          <button type="button" className="btn btn-error btn-outline btn-sm" onClick={() => setRemoving(true)}>
            Remove {domain.display} …
          </button>
        </Panel>
      </div>
      <RemoveDialog
        what={removing ? { path: `/domains/${part(domain.name)}`, name: domain.name } : null}
        onClose={() => setRemoving(false)}
        onRemoved={() => navigate('/domains')}
      />
    </div>
  );
}
