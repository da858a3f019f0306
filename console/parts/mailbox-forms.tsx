import { type ComponentProps, type FormEvent, useState } from 'react';
import type { Mailbox, MailboxResult } from '../../src/api/mailbox-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { call, part, useChange } from '../api.ts';
import { CopyButton } from './copy.tsx';
import { Check, Field, Form, FormEnd } from './forms.tsx';
import { ManyForm } from './many-form.tsx';
import { count, size } from './words.ts';

/** How many messages are in them is said first, and the number of mailboxes is typed. */
export function RemoveMailboxes({ rows, onClose }: { rows: Mailbox[]; onClose: () => void }) {
  const [typed, setTyped] = useState('');
  const messages = rows.reduce((sum, one) => sum + one.messages, 0);
  return (
    <ManyForm
      rows={rows}
      nameOf={(one) => one.address}
      words={
        messages === 0
          ? 'These mailboxes are empty:'
          : `${count(messages, 'message')} ${messages === 1 ? 'is' : 'are'} in these mailboxes. Each can be restored for some days:`
      }
      action="Remove them"
      act={(one) => call('DELETE', `/mailboxes/${part(one.address)}`)}
      onClose={onClose}
      danger
    >
      <Field label={`Type ${rows.length} to confirm`}>
        <input
          className="input w-full"
          inputMode="numeric"
          required
          pattern={String(rows.length)}
          title={`the number of mailboxes, ${rows.length}`}
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
      </Field>
    </ManyForm>
  );
}

export function QuotaOfMany({ rows, quota, onClose }: { rows: Mailbox[]; quota: number; onClose: () => void }) {
  const [mib, setMib] = useState(String(Math.round(quota / MIB)));
  return (
    <ManyForm
      rows={rows}
      nameOf={(one) => one.address}
      words="The quota of these mailboxes:"
      action="Set it"
      act={(one) => call('PATCH', `/mailboxes/${part(one.address)}`, { quotaBytes: Math.round(Number(mib) * MIB) })}
      onClose={onClose}
    >
      <Field field="quotaBytes" label="Quota in MiB">
        <input className="input w-full" type="number" min={1} required value={mib} onChange={(event) => setMib(event.target.value)} />
      </Field>
    </ManyForm>
  );
}

/** Shows a generated password, once. */
function PasswordShown({ result, onClose }: { result: MailboxResult; onClose: () => void }) {
  return (
    <div>
      <p className="mb-3">
        <span className="font-medium">{result.mailbox.address}</span> is ready.
      </p>
      {result.password ? (
        <div className="rounded-field bg-base-200 p-3">
          <p className="soft text-xs">Password, shown only once</p>
          <p className="flex items-center justify-between gap-2">
            <output aria-label="Generated password" className="record-text text-base">
              {result.password}
            </output>
            <CopyButton text={result.password} what="password" />
          </p>
        </div>
      ) : null}
      {result.appPasswords > 0 ? (
        <p className="mt-3 text-sm">
          {count(result.appPasswords, 'device')} still {result.appPasswords === 1 ? 'signs' : 'sign'} in with a password of{' '}
          {result.appPasswords === 1 ? 'its' : 'their'} own.
        </p>
      ) : null}
      <div className="mt-4 text-right">
        <button type="button" className="btn btn-primary" onClick={onClose}>
          Done
        </button>
      </div>
    </div>
  );
}

function PasswordFields({
  choice,
  setChoice,
  password,
  setPassword,
  keep,
}: {
  choice: string;
  setChoice: (choice: string) => void;
  password: string;
  setPassword: (password: string) => void;
  keep: boolean;
}) {
  const choices = [...(keep ? [['keep', 'Keep the password']] : []), ['generate', 'Generate a password'], ['choose', 'Choose one']] as [
    string,
    string,
  ][];
  return (
    <fieldset className="mb-3">
      <legend className="mb-1 font-medium text-sm">Password</legend>
      {choices.map(([value, title]) => (
        <label key={value} className="flex cursor-pointer items-center gap-2 py-1 text-sm">
          <input
            type="radio"
            className="radio radio-sm radio-primary"
            name="password-choice"
            checked={choice === value}
            onChange={() => setChoice(value)}
          />
          {title}
        </label>
      ))}
      {choice === 'choose' ? (
        <input
          className="input mt-1 w-full"
          type="password"
          aria-label="Chosen password"
          autoComplete="new-password"
          required
          value={password}
          onChange={(event) => setPassword(event.target.value)}
          placeholder="12 characters or more"
        />
      ) : null}
    </fieldset>
  );
}

const nameOf = (typed: string): string | null => (typed.trim() === '' ? null : typed.trim());

function NameField({ name, onChange }: { name: string; onChange: (name: string) => void }) {
  return (
    <Field field="name" label="Owner" hint="Display name; optional.">
      <input className="input w-full" maxLength={200} value={name} onChange={(event) => onChange(event.target.value)} />
    </Field>
  );
}

export function AddMailbox({ domain, onClose }: { domain: Domain; onClose: () => void }) {
  const [local, setLocal] = useState('');
  const [name, setName] = useState('');
  const [shared, setShared] = useState(false);
  const [choice, setChoice] = useState('generate');
  const [password, setPassword] = useState('');
  const add = useChange<MailboxResult>(() =>
    call('POST', '/mailboxes', {
      address: `${local}@${domain.name}`,
      password: !shared && choice === 'choose' ? password : null,
      name: nameOf(name),
      shared,
    }),
  );
  if (add.data) return <PasswordShown result={add.data} onClose={onClose} />;
  return (
    <Form
      problem={add.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <Field field="address" label="Name before the @">
        <LocalPart domain={domain} value={local} onChange={setLocal} />
      </Field>
      <NameField name={name} onChange={setName} />
      <label className="mb-3 flex cursor-pointer items-center gap-2 text-sm">
        <input type="checkbox" className="checkbox checkbox-sm" checked={shared} onChange={(event) => setShared(event.target.checked)} />
        Shared: its members open it with their own passwords
      </label>
      {shared ? null : <PasswordFields choice={choice} setChoice={setChoice} password={password} setPassword={setPassword} keep={false} />}
      <p className="soft text-sm">
        Quota {size(domain.quotaBytes)}, by the plan. {count(domain.mostMailboxes - domain.mailboxes, 'more mailbox', 'more mailboxes')} in
        the plan.
      </p>
      <FormEnd action="Add the mailbox" busy={add.isPending} problem={add.error} onCancel={onClose} />
    </Form>
  );
}

export const MIB = 1024 * 1024;

export function ChangeMailbox({ mailbox, onClose }: { mailbox: Mailbox; onClose: () => void }) {
  const [choice, setChoice] = useState('keep');
  const [password, setPassword] = useState('');
  const [quota, setQuota] = useState(String(Math.round(mailbox.quotaBytes / MIB)));
  const [name, setName] = useState(mailbox.name ?? '');
  const [pop3Junk, setPop3Junk] = useState(mailbox.pop3Junk);
  const [copyTo, setCopyTo] = useState(mailbox.copyTo.join('\n'));
  const [messages, setMessages] = useState(mailbox.quotaMessages === null ? '' : String(mailbox.quotaMessages));
  const [revokes, setRevokes] = useState(false);
  const change = useChange<MailboxResult>(
    () =>
      call(
        'PATCH',
        `/mailboxes/${part(mailbox.address)}`,
        {
          quotaBytes: Math.round(Number(quota) * MIB),
          pop3Junk,
          copyTo: copyTo.split(/[\s,;]+/).filter((one) => one !== ''),
          name: nameOf(name),
          quotaMessages: messages.trim() === '' ? null : Number(messages),
          ...(choice === 'keep' ? {} : { password: choice === 'choose' ? password : null, revokeAppPasswords: revokes }),
        },
        mailbox.revision,
      ),
    (result) => {
      if (!isTold(result)) onClose();
    },
  );
  // Whoever replaces a password should know who signs in all the same.
  const isTold = (result: MailboxResult): boolean => result.password !== null || (choice !== 'keep' && result.appPasswords > 0);
  if (change.data && isTold(change.data)) return <PasswordShown result={change.data} onClose={onClose} />;
  return (
    <Form
      problem={change.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <NameField name={name} onChange={setName} />
      <PasswordFields choice={choice} setChoice={setChoice} password={password} setPassword={setPassword} keep />
      {choice === 'keep' ? null : <Check label="Also revoke its app passwords" value={revokes} onChange={setRevokes} />}
      <Field field="quotaBytes" label="Quota in MiB" hint={`${size(mailbox.usedBytes)} in use.`}>
        <input className="input w-full" type="number" min={1} required value={quota} onChange={(event) => setQuota(event.target.value)} />
      </Field>
      <Field field="quotaMessages" label="Most messages" hint={`Empty for no limit; ${mailbox.messages.toLocaleString('en')} in use.`}>
        <input className="input w-full" type="number" min={1} value={messages} onChange={(event) => setMessages(event.target.value)} />
      </Field>
      <Field field="copyTo" label="Forward a copy to" hint="One address per line. The mailbox keeps a copy.">
        <textarea className="textarea w-full" rows={2} value={copyTo} onChange={(event) => setCopyTo(event.target.value)} />
      </Field>
      <label className="mb-3 flex cursor-pointer items-center gap-2 text-sm">
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={pop3Junk}
          onChange={(event) => setPop3Junk(event.target.checked)}
        />
        POP3 includes junk, marked in the subject
      </label>
      <FormEnd action="Save" busy={change.isPending} problem={change.error} onCancel={onClose} />
    </Form>
  );
}

/** The part before the @, with the domain behind it. */
export function LocalPart({
  domain,
  value,
  onChange,
  ...rest
}: { domain: Domain; value: string; onChange: (value: string) => void } & Omit<ComponentProps<'input'>, 'onChange'>) {
  return (
    <span className="input w-full">
      <input {...rest} autoFocus required value={value} onChange={(event) => onChange(event.target.value)} />
      <span className="soft">@{domain.display}</span>
    </span>
  );
}
