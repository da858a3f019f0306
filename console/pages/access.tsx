import { Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Token } from '../../src/api/access-schemas.ts';
import { call, part, useChange } from '../api.ts';
import { Empty, IconButton, PageHead, Panel, ProblemNote } from '../parts/blocks.tsx';
import { CopyButton } from '../parts/copy.tsx';
import { Dialog, Field, Form, FormProblem } from '../parts/forms.tsx';
import { Listing } from '../parts/listing.tsx';
import { Lockouts } from '../parts/lockouts.tsx';
import { ManyForm } from '../parts/many-form.tsx';
import { Sessions } from '../parts/sessions.tsx';
import { SignInHistory } from '../parts/sign-in-history.tsx';
import { SignInTroubles } from '../parts/sign-in-troubles.tsx';
import { ago, day } from '../parts/words.ts';

export function AccessPage() {
  return (
    <>
      <PageHead title="Access" />
      <div className="grid grid-cols-1 items-start gap-4 lg:grid-cols-2">
        <div className="lg:col-span-2">
          <Lockouts />
        </div>
        <div className="lg:col-span-2">
          <SignInTroubles domain={null} />
        </div>
        <div className="lg:col-span-2">
          <SignInHistory domain={null} />
        </div>
        <Tokens />
        <div className="grid gap-4">
          <Sessions />
          <Panel title="Your password">
            <PasswordForm />
          </Panel>
        </div>
      </div>
    </>
  );
}

function Tokens() {
  const [name, setName] = useState('');
  const [revoking, setRevoking] = useState<Token[]>([]);
  const add = useChange<{ name: string; token: string }>(
    () => call('POST', '/tokens', { name }),
    () => setName(''),
  );
  return (
    <Panel title="API tokens">
      <p className="soft mb-3 text-sm">For the command line and for scripts. A token has all your rights until you revoke it.</p>
      <form
        className="mb-3 flex gap-2"
        onSubmit={(event: FormEvent) => {
          event.preventDefault();
          add.mutate();
        }}
      >
        <input
          className="input input-sm flex-1"
          aria-label="Name of the new token"
          placeholder="What it is for"
          required
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <button type="submit" className="btn btn-sm btn-primary" disabled={add.isPending}>
          Make a token
        </button>
      </form>
      {add.error ? <ProblemNote problem={add.error} /> : null}
      {add.data ? (
        <div className="mb-3 rounded-field bg-base-200 p-3 text-sm">
          <p className="soft text-xs">The token “{add.data.name}”, shown only once</p>
          <p className="flex items-center justify-between gap-2">
            <output className="record-text" aria-label="New token">
              {add.data.token}
            </output>
            <CopyButton text={add.data.token} what="token" />
          </p>
        </div>
      ) : null}
      <Listing<Token>
        name="tokens"
        path="/tokens"
        searchFor="tokens"
        keyOf={(one) => one.id}
        nameOf={(one) => one.name}
        columns={[
          { heading: 'Token', sort: 'name', className: 'font-medium', cell: (one) => one.name },
          { heading: 'Created', sort: 'since', down: true, className: 'soft', cell: (one) => day(one.createdAt) },
          { heading: 'Used', sort: 'used', down: true, className: 'soft', cell: (one) => (one.usedAt ? ago(one.usedAt) : 'never') },
        ]}
        actions={(one) => <IconButton icon={Trash2} label={`Revoke ${one.name}`} title="Revoke" onClick={() => setRevoking([one])} />}
        many={[{ name: 'Revoke', icon: Trash2, onAct: setRevoking }]}
        empty={<Empty>No tokens yet.</Empty>}
      />
      <Dialog title="Revoke" open={revoking.length > 0} onClose={() => setRevoking([])}>
        <ManyForm
          rows={revoking}
          nameOf={(one) => one.name}
          words="Programs that use these tokens will be refused:"
          action="Revoke"
          act={(one) => call('DELETE', `/tokens/${part(one.name)}`)}
          onClose={() => setRevoking([])}
          danger
        />
      </Dialog>
    </Panel>
  );
}

function PasswordForm() {
  const [current, setCurrent] = useState('');
  const [next, setNext] = useState('');
  const change = useChange<object>(
    () => call('PUT', '/password', { current, next }),
    () => {
      setCurrent('');
      setNext('');
    },
  );
  return (
    <Form
      problem={change.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <Field field="current" label="Current password">
        <input
          className="input input-sm w-full"
          type="password"
          autoComplete="current-password"
          required
          value={current}
          onChange={(event) => setCurrent(event.target.value)}
        />
      </Field>
      <Field field="next" label="New password" hint="12 characters or more.">
        <input
          className="input input-sm w-full"
          type="password"
          autoComplete="new-password"
          required
          value={next}
          onChange={(event) => setNext(event.target.value)}
        />
      </Field>
      <FormProblem problem={change.error} />
      {change.isSuccess ? (
        <p role="status" className="mb-2 text-sm text-success">
          The password is changed. Your other sessions have ended.
        </p>
      ) : null}
      <button type="submit" className="btn btn-sm btn-primary" disabled={change.isPending}>
        Save
      </button>
    </Form>
  );
}
