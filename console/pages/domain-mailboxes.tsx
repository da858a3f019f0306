import { KeyRound, Pencil, Plus, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Alias, Domain, Mailbox, MailboxResult } from '../../src/api/schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Answer, CopyButton, DataTable, Dialog, Empty, Field, FormEnd, IconButton, Panel } from '../parts/blocks.tsx';
import { RemoveDialog } from '../parts/remove.tsx';
import { SendingButton } from '../parts/sending-dialog.tsx';
import { count, size } from '../parts/words.ts';

type Open =
  | { kind: 'add-mailbox' }
  | { kind: 'add-alias' }
  | { kind: 'mailbox'; mailbox: Mailbox }
  | { kind: 'alias'; alias: Alias }
  | { kind: 'remove'; path: string; name: string }
  | null;

export function MailboxesTab({ domain }: { domain: Domain }) {
  const mailboxes = useCall<Mailbox[]>(`/domains/${part(domain.name)}/mailboxes`);
  const aliases = useCall<Alias[]>(`/domains/${part(domain.name)}/aliases`);
  const [open, setOpen] = useState<Open>(null);
  const close = (): void => setOpen(null);
  if (domain.role !== 'home')
    return (
      <div className="panel">
        <Empty>
          The role {domain.role} has no mailboxes here. Give the domain the role home, in its settings, if its mail is to be kept here.
        </Empty>
      </div>
    );
  const addMailbox = (
    <button type="button" className="btn btn-sm btn-primary" onClick={() => setOpen({ kind: 'add-mailbox' })}>
      <Plus size={14} aria-hidden="true" /> Add a mailbox
    </button>
  );
  const addAlias = (
    <button type="button" className="btn btn-sm" onClick={() => setOpen({ kind: 'add-alias' })}>
      <Plus size={14} aria-hidden="true" /> Add an alias
    </button>
  );
  return (
    <div className="space-y-4">
      <Panel title="Mailboxes" aside={addMailbox}>
        <Answer query={mailboxes}>
          {(rows) =>
            rows.length === 0 ? (
              <Empty>No mailbox is here yet. Mail to postmaster and abuse reaches the provider meanwhile.</Empty>
            ) : (
              <DataTable headings={['Address', 'Messages', 'Stored']}>
                {rows.map((mailbox) => (
                  <tr key={mailbox.address}>
                    <td className="font-medium">{mailbox.address}</td>
                    <td>{mailbox.messages.toLocaleString('en')}</td>
                    <td className="whitespace-nowrap">
                      {size(mailbox.usedBytes)} <span className="soft">of {size(mailbox.quotaBytes)}</span>
                    </td>
                    <td className="whitespace-nowrap text-right">
                      <SendingButton scope={mailbox.address} name={mailbox.address} />
                      <IconButton
                        icon={KeyRound}
                        label={`Change ${mailbox.address}`}
                        title="Password and quota"
                        onClick={() => setOpen({ kind: 'mailbox', mailbox })}
                      />
                      <IconButton
                        icon={Trash2}
                        label={`Remove ${mailbox.address}`}
                        title="Remove"
                        onClick={() => setOpen({ kind: 'remove', path: `/mailboxes/${part(mailbox.address)}`, name: mailbox.address })}
                      />
                    </td>
                  </tr>
                ))}
              </DataTable>
            )
          }
        </Answer>
      </Panel>
      <Panel title="Aliases" aside={addAlias}>
        <Answer query={aliases}>
          {(rows) =>
            rows.length === 0 ? (
              <Empty>No alias is here yet. An alias leads to one or many addresses, here or outside.</Empty>
            ) : (
              <DataTable headings={['Alias', 'Leads to']}>
                {rows.map((alias) => (
                  <tr key={alias.address}>
                    <td className="font-medium">{alias.address}</td>
                    <td className="[overflow-wrap:anywhere]">{alias.targets.join(', ')}</td>
                    <td className="whitespace-nowrap text-right">
                      <IconButton
                        icon={Pencil}
                        label={`Change ${alias.address}`}
                        title="Change"
                        onClick={() => setOpen({ kind: 'alias', alias })}
                      />
                      <IconButton
                        icon={Trash2}
                        label={`Remove ${alias.address}`}
                        title="Remove"
                        onClick={() => setOpen({ kind: 'remove', path: `/aliases/${part(alias.address)}`, name: alias.address })}
                      />
                    </td>
                  </tr>
                ))}
              </DataTable>
            )
          }
        </Answer>
      </Panel>
      <Dialog title="Add a mailbox" open={open?.kind === 'add-mailbox'} onClose={close}>
        <AddMailbox domain={domain} onClose={close} />
      </Dialog>
      <Dialog title={open?.kind === 'mailbox' ? open.mailbox.address : 'Mailbox'} open={open?.kind === 'mailbox'} onClose={close}>
        {open?.kind === 'mailbox' ? <ChangeMailbox mailbox={open.mailbox} onClose={close} /> : null}
      </Dialog>
      <Dialog
        title={open?.kind === 'alias' ? open.alias.address : 'Add an alias'}
        open={open?.kind === 'alias' || open?.kind === 'add-alias'}
        onClose={close}
      >
        <AliasForm domain={domain} alias={open?.kind === 'alias' ? open.alias : null} onClose={close} />
      </Dialog>
      <RemoveDialog what={open?.kind === 'remove' ? open : null} onClose={close} />
    </div>
  );
}

/** Shows a generated password, this once. */
function PasswordShown({ result, onClose }: { result: MailboxResult; onClose: () => void }) {
  return (
    <div>
      <p className="mb-3">
        <span className="font-medium">{result.mailbox.address}</span> is ready.
      </p>
      {result.password ? (
        <div className="rounded-field bg-base-200 p-3">
          <p className="soft text-xs">Password, shown this once</p>
          <p className="flex items-center justify-between gap-2">
            <output aria-label="Generated password" className="record-text text-base">
              {result.password}
            </output>
            <CopyButton text={result.password} what="password" />
          </p>
        </div>
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

function AddMailbox({ domain, onClose }: { domain: Domain; onClose: () => void }) {
  const [local, setLocal] = useState('');
  const [choice, setChoice] = useState('generate');
  const [password, setPassword] = useState('');
  const add = useChange<MailboxResult>(() =>
    call('POST', '/mailboxes', { address: `${local}@${domain.name}`, password: choice === 'choose' ? password : null }),
  );
  if (add.data) return <PasswordShown result={add.data} onClose={onClose} />;
  return (
    <form
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <Field label="Name before the @">
        <LocalPart domain={domain} value={local} onChange={setLocal} />
      </Field>
      <PasswordFields choice={choice} setChoice={setChoice} password={password} setPassword={setPassword} keep={false} />
      <p className="soft text-sm">
        Quota {size(domain.quotaBytes)}, by the plan. {count(domain.mostMailboxes - domain.mailboxes, 'more mailbox', 'more mailboxes')} in
        the plan.
      </p>
      <FormEnd action="Add the mailbox" busy={add.isPending} problem={add.error} onCancel={onClose} />
    </form>
  );
}

const MIB = 1024 * 1024;

function ChangeMailbox({ mailbox, onClose }: { mailbox: Mailbox; onClose: () => void }) {
  const [choice, setChoice] = useState('keep');
  const [password, setPassword] = useState('');
  const [quota, setQuota] = useState(String(Math.round(mailbox.quotaBytes / MIB)));
  const change = useChange<MailboxResult>(
    () =>
      call('PATCH', `/mailboxes/${part(mailbox.address)}`, {
        quotaBytes: Math.round(Number(quota) * MIB),
        ...(choice === 'keep' ? {} : { password: choice === 'choose' ? password : null }),
      }),
    (result) => {
      if (result.password === null) onClose();
    },
  );
  if (change.data?.password) return <PasswordShown result={change.data} onClose={onClose} />;
  return (
    <form
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <PasswordFields choice={choice} setChoice={setChoice} password={password} setPassword={setPassword} keep />
      <Field label="Quota in MiB" hint={`${size(mailbox.usedBytes)} are in use.`}>
        <input className="input w-full" type="number" min={1} required value={quota} onChange={(event) => setQuota(event.target.value)} />
      </Field>
      <FormEnd action="Change it" busy={change.isPending} problem={change.error} onCancel={onClose} />
    </form>
  );
}

function AliasForm({ domain, alias, onClose }: { domain: Domain; alias: Alias | null; onClose: () => void }) {
  const [local, setLocal] = useState('');
  const [targets, setTargets] = useState(alias?.targets.join('\n') ?? '');
  const list = targets.split(/[\s,;]+/).filter((one) => one !== '');
  const save = useChange<Alias>(
    () =>
      alias
        ? call('PATCH', `/aliases/${part(alias.address)}`, { targets: list })
        : call('POST', '/aliases', { address: `${local}@${domain.name}`, targets: list }),
    onClose,
  );
  return (
    <form
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {alias ? null : (
        <Field label="Name before the @">
          <LocalPart domain={domain} value={local} onChange={setLocal} />
        </Field>
      )}
      <Field label="Leads to" hint="One address a line, here or outside. Mail that goes on outside counts as sends of this domain.">
        <textarea className="textarea w-full" rows={4} required value={targets} onChange={(event) => setTargets(event.target.value)} />
      </Field>
      <FormEnd action={alias ? 'Change it' : 'Add the alias'} busy={save.isPending} problem={save.error} onCancel={onClose} />
    </form>
  );
}

/** The part before the @, with the domain behind it. */
function LocalPart({ domain, value, onChange, id }: { domain: Domain; value: string; onChange: (value: string) => void; id?: string }) {
  return (
    <span className="input w-full">
      <input id={id} autoFocus required value={value} onChange={(event) => onChange(event.target.value)} />
      <span className="soft">@{domain.display}</span>
    </span>
  );
}
