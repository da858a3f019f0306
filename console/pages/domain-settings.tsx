import { type FormEvent, useState } from 'react';
import { useNavigate } from 'react-router';
import type { Customer, Domain, Plan, RecipientNames } from '../../src/api/schemas.ts';
import { type FullMailbox, JUDGES, type MailName, ROLES } from '../../src/core/vocabulary.ts';
import { call, part, useAll, useCall, useChange } from '../api.ts';
import { Panel } from '../parts/blocks.tsx';
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
  const [judge, setJudge] = useState<string>(domain.judge);
  const [dmarc, setDmarc] = useState<string>(domain.dmarcStage);
  // The form shows what was there when it was opened.
  const [opened, setOpened] = useState(domain.revision);
  const [removing, setRemoving] = useState(false);
  const [primaryServer, setPrimaryServer] = useState(domain.primaryServer ?? '');
  const [catchAll, setCatchAll] = useState(domain.catchAll ?? '');
  const [largest, setLargest] = useState(domain.mostBytes === null ? '' : String(domain.mostBytes / 1024 ** 2));
  const [fullMailbox, setFullMailbox] = useState(domain.fullMailbox);
  const [mailName, setMailName] = useState(domain.mailName);
  const [isSampled, setSampled] = useState(domain.isSampled);
  const [storage, setStorage] = useState(domain.storageBytes === null ? '' : String(domain.storageBytes / 1024 ** 3));
  const [storedMessages, setStoredMessages] = useState(domain.storageMessages === null ? '' : String(domain.storageMessages));
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
    judge,
    dmarc,
    primaryServer: elsewhere && primaryServer.trim() !== '' ? primaryServer.trim() : null,
    catchAll: catchAll.trim() === '' ? null : catchAll.trim(),
    mostBytes: largest.trim() === '' ? null : Math.round(Number(largest) * 1024 ** 2),
    fullMailbox,
    mailName,
    isSampled,
    storageBytes: storage.trim() === '' ? null : Math.round(Number(storage) * 1024 ** 3),
    storageMessages: storedMessages.trim() === '' ? null : Number(storedMessages),
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
    judge !== domain.judge ||
    dmarc !== domain.dmarcStage ||
    values.primaryServer !== domain.primaryServer ||
    values.catchAll !== domain.catchAll ||
    values.mostBytes !== domain.mostBytes ||
    fullMailbox !== domain.fullMailbox ||
    mailName !== domain.mailName ||
    isSampled !== domain.isSampled ||
    values.storageBytes !== domain.storageBytes ||
    values.storageMessages !== domain.storageMessages ||
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
          <Field field="plan" label="Plan" hint="It takes effect at once wherever nothing else was set.">
            <select className="select w-full" value={plan} onChange={(event) => setPlan(event.target.value)}>
              {(plans.data ?? [{ id: 0, name: domain.plan }]).map((one) => (
                <option key={one.id}>{one.name}</option>
              ))}
            </select>
          </Field>
          <Field
            field="role"
            label="Role"
            hint="pass-on: mail goes to its own server at once; standby: only kept while that server is down; away: never local."
          >
            <select className="select w-full" value={role} onChange={(event) => setRole(event.target.value)}>
              {ROLES.map((one) => (
                <option key={one}>{one}</option>
              ))}
            </select>
          </Field>
          {elsewhere ? (
            <>
              <Field
                field="primaryServer"
                label="The server that has its mailboxes"
                hint="Like mx.office.example or mx.office.example:2525. Empty with standby: found by MX."
              >
                <input className="input w-full" value={primaryServer} onChange={(event) => setPrimaryServer(event.target.value)} />
              </Field>
              <Field
                field="recipientList"
                label="Names that exist there"
                hint="One per line. Empty: that server is asked, and its answers are kept."
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
            <Field field="catchAll" label="Catch-all" hint="Where mail for unknown addresses goes; empty for nowhere.">
              <input className="input w-full" type="email" value={catchAll} onChange={(event) => setCatchAll(event.target.value)} />
            </Field>
          )}
          <Field field="mostBytes" label="Largest message, MiB" hint="To receive or to send; empty for the server’s own limit.">
            <input
              className="input w-full"
              type="number"
              min={0}
              step="any"
              value={largest}
              onChange={(event) => setLargest(event.target.value)}
            />
          </Field>
          {role === 'home' ? (
            <div className="grid gap-x-3 sm:grid-cols-2">
              <Field
                field="storageBytes"
                label="Storage of all mailboxes, in GiB"
                hint={`Empty for no limit; ${size(domain.usedBytes)} are in use.`}
              >
                <input
                  className="input w-full"
                  type="number"
                  min={0.01}
                  step="any"
                  value={storage}
                  onChange={(event) => setStorage(event.target.value)}
                />
              </Field>
              <Field
                field="storageMessages"
                label="Messages in all mailboxes"
                hint={`Empty for no limit; there are ${domain.usedMessages.toLocaleString('en')}.`}
              >
                <input
                  className="input w-full"
                  type="number"
                  min={1}
                  value={storedMessages}
                  onChange={(event) => setStoredMessages(event.target.value)}
                />
              </Field>
            </div>
          ) : null}
          <Field
            field="fullMailbox"
            label="Mail for a full mailbox"
            hint="put off: its sender tries again for days (452 4.2.2); refuse: it goes back at once (552 5.2.2)."
          >
            <select className="select w-full" value={fullMailbox} onChange={(event) => setFullMailbox(event.target.value as FullMailbox)}>
              <option value="put-off">put off</option>
              <option value="refuse">refuse</option>
            </select>
          </Field>
          <Field
            field="mailName"
            label="Mail programs connect to"
            hint="A name of its own has a certificate of its own, fetched once the name leads here. The host’s name needs nothing in the domain’s DNS."
          >
            <select className="select w-full" value={mailName} onChange={(event) => setMailName(event.target.value as MailName)}>
              <option value="own">mail.{domain.display}</option>
              <option value="host">the host’s name</option>
            </select>
          </Field>
          <label className="mb-3 flex cursor-pointer items-center gap-2 text-sm">
            <input type="checkbox" className="toggle" checked={isSampled} onChange={(event) => setSampled(event.target.checked)} />
            Score a message that it sends every day (Tests, What a message is worth); nothing of it is kept
          </label>
          <Field
            field="judge"
            label="Incoming mail that DMARC finds forged"
            hint="note: only noted in the message; junk: filed as junk; enforce: refused where its domain asks for that, else junk."
          >
            <select className="select w-full" value={judge} onChange={(event) => setJudge(event.target.value)}>
              {JUDGES.map((one) => (
                <option key={one}>{one}</option>
              ))}
            </select>
          </Field>
          <Field
            field="dmarc"
            label="Stage of the domain’s own DMARC policy"
            hint="The record sheet and the checks follow it. When a stricter policy is published, it moves up to that."
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
              Somebody has changed these settings since you opened them.
              <button type="button" className="btn btn-sm ml-3" onClick={onReopen}>
                Show what they are now
              </button>
            </p>
          ) : null}
          <button type="submit" className="btn btn-primary btn-sm" disabled={!changed || change.isPending}>
            Change it
          </button>
        </Form>
      </Panel>
      <div className="space-y-4">
        <TwinPanel domain={domain} />
        <Panel title="Remove the domain">
          <p className="soft mb-3 text-sm">
            Its mailboxes, messages, aliases and keys go with it. You are shown what exactly before anything happens.
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
