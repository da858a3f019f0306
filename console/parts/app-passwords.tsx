import { Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { AppPassword, Mailbox } from '../../src/api/mailbox-schemas.ts';
import { call, part, useAll, useChange } from '../api.ts';
import { AskFirst } from './ask-first.tsx';
import { ProblemNote } from './blocks.tsx';
import { CopyButton } from './copy.tsx';
import { ago } from './words.ts';

/** The passwords of single devices: made, shown once, and revoked. */
export function AppPasswords({ mailbox }: { mailbox: Mailbox }) {
  const path = `/mailboxes/${part(mailbox.address)}/app-passwords`;
  const query = useAll<AppPassword>(path, { everyMs: 10_000 });
  const [name, setName] = useState('');
  const add = useChange<{ name: string; password: string }, string>(
    (device) => call('POST', path, { name: device }),
    () => setName(''),
  );
  const remove = useChange<unknown, string>((device) => call('DELETE', `${path}/${part(device)}`));
  const [isOnly, setIsOnly] = useState(mailbox.appPasswordsOnly);
  const only = useChange<unknown, boolean>((appPasswordsOnly) =>
    call('PATCH', `/mailboxes/${part(mailbox.address)}`, { appPasswordsOnly }),
  );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    add.mutate(name);
  };
  const problem = add.error ?? remove.error ?? only.error;
  return (
    <section aria-label="App passwords">
      <h3 className="font-medium text-sm">App passwords</h3>
      <p className="soft mb-2 text-sm">One for each device, so a lost phone’s password can be revoked alone.</p>
      {problem ? <ProblemNote problem={problem} /> : null}
      <ul className="divide-y divide-base-200">
        {(query.data ?? []).map((one) => (
          <li key={one.name} className="flex items-center justify-between gap-2 py-1 text-sm">
            <span className="min-w-0 [overflow-wrap:anywhere]">
              <span className="font-medium">{one.name}</span>{' '}
              <span className="soft">
                {one.usedAt === null
                  ? 'never used'
                  : `used ${ago(one.usedAt)} from ${one.usedFrom}${one.program ? ` by ${one.program}` : ''}`}
              </span>
            </span>
            <AskFirst
              icon={Trash2}
              label={`Revoke the password for ${one.name}`}
              title="Revoke app password"
              question={`${one.name} will be signed out, and its password will stop working.`}
              action="Revoke"
              act={() => remove.mutate(one.name)}
            />
          </li>
        ))}
      </ul>
      {add.data ? (
        <div className="my-2 rounded-field bg-base-200 p-3">
          <p className="soft text-xs">Password for {add.data.name}, shown only once</p>
          <p className="flex items-center justify-between gap-2">
            <output aria-label="App password" className="record-text">
              {add.data.password}
            </output>
            <CopyButton text={add.data.password} what="password" />
          </p>
        </div>
      ) : null}
      <form onSubmit={submit} className="mt-2 flex gap-2">
        <input
          className="input input-sm min-w-0 grow"
          aria-label="Device"
          placeholder="Ana’s phone"
          required
          maxLength={60}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <button type="submit" className="btn btn-sm" disabled={add.isPending}>
          Make one
        </button>
      </form>
      <label className="mt-3 flex cursor-pointer items-center gap-2 text-sm">
        <input
          type="checkbox"
          className="toggle toggle-sm"
          checked={only.isError ? mailbox.appPasswordsOnly : isOnly}
          onChange={(event) => {
            // At once: what is asked of the service is shown a moment later.
            setIsOnly(event.target.checked);
            only.mutate(event.target.checked);
          }}
        />
        Only app passwords can sign in, not the mailbox password
      </label>
    </section>
  );
}
