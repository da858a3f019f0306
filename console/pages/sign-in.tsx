import { type FormEvent, useState } from 'react';
import type { Session } from '../../src/api/access-schemas.ts';
import { CallProblem, call, keepGuard } from '../api.ts';
import { ProblemNote } from '../parts/blocks.tsx';
import { Field } from '../parts/forms.tsx';

/** The one-time code behind the “#”; an address that was cut or mistyped is no reason to show nothing. */
function codeInAddress(): string {
  const text = location.hash.slice(1);
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}

/** Signs in with a password, or the first time with the one-time code that the service printed. */
export function SignInPage({ onSignedIn }: { onSignedIn: () => void }) {
  const [code, setCode] = useState(codeInAddress);
  const [first, setFirst] = useState(location.hash.length > 1);
  const [name, setName] = useState('operator');
  const [password, setPassword] = useState('');
  const [problem, setProblem] = useState<CallProblem | null>(null);
  const [busy, setBusy] = useState(false);
  const submit = async (event: FormEvent): Promise<void> => {
    event.preventDefault();
    setBusy(true);
    try {
      keepGuard(await call<Session>('POST', '/session', { name, password, code: first ? code : null }));
      if (location.pathname === '/sign-in') history.replaceState(null, '', '/');
      onSignedIn();
    } catch (error) {
      if (!(error instanceof CallProblem)) throw error;
      setProblem(error);
      setBusy(false);
    }
  };
  return (
    <main className="grid min-h-screen place-items-center bg-base-200 p-4 text-base-content">
      <form onSubmit={submit} className="panel w-full max-w-sm p-6">
        <div className="mb-5 flex items-center gap-3">
          <img src="/fork.svg" alt="" width={36} height={36} />
          <div>
            <h1 className="font-semibold text-xl tracking-tight">Tenedor</h1>
            <p className="soft text-sm">{first ? 'First sign-in: choose a password' : 'Sign in'}</p>
          </div>
        </div>
        <Field label="Name">
          <input className="input w-full" autoComplete="username" required value={name} onChange={(event) => setName(event.target.value)} />
        </Field>
        {first ? (
          <Field label="One-time code" hint="Printed by the service at its first start.">
            <input className="input w-full font-mono" required value={code} onChange={(event) => setCode(event.target.value)} />
          </Field>
        ) : null}
        <Field label={first ? 'New password' : 'Password'} {...(first ? { hint: '12 characters or more.' } : {})}>
          <input
            className="input w-full"
            type="password"
            autoFocus
            required
            autoComplete={first ? 'new-password' : 'current-password'}
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
        </Field>
        {problem ? <ProblemNote problem={problem} /> : null}
        <button type="submit" className="btn btn-primary mt-2 w-full" disabled={busy}>
          {first ? 'Set the password and sign in' : 'Sign in'}
        </button>
        <button type="button" className="link link-hover soft mt-4 text-sm" onClick={() => setFirst(!first)}>
          {first ? 'I have a password already' : 'I have a one-time code'}
        </button>
      </form>
    </main>
  );
}
