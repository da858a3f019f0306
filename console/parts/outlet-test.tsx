import { CircleCheck, CircleX } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Outlet, OutletTest } from '../../src/api/mail-schemas.ts';
import { call, part, useChange } from '../api.ts';
import { Field, Form, FormProblem } from './forms.tsx';

/** Walks an outlet's steps up to the message. */
export function OutletTestForm({ one }: { one: Outlet }) {
  const [to, setTo] = useState('');
  const test = useChange<OutletTest>(() => call('POST', `/outlets/${part(one.name)}/test`, { to: to === '' ? null : to }));
  return (
    <Form
      problem={test.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        test.mutate();
      }}
    >
      <p className="soft mb-3 text-sm">Tests every step up to the message. Nothing is sent.</p>
      {one.kind === 'direct' ? (
        <Field field="to" label="Destination domain">
          <input
            className="input input-sm w-full"
            required
            placeholder="northpost.example"
            value={to}
            onChange={(event) => setTo(event.target.value)}
          />
        </Field>
      ) : null}
      <FormProblem problem={test.error} />
      {test.data ? (
        <ol className="mb-3 space-y-2 text-sm" aria-label="Steps">
          {test.data.steps.map((step) => (
            <li key={`${step.step} ${step.text}`} className="flex gap-2">
              {step.good ? (
                <CircleCheck size={16} className="mt-0.5 shrink-0 text-success" aria-label="good" />
              ) : (
                <CircleX size={16} className="mt-0.5 shrink-0 text-error" aria-label="failed" />
              )}
              <span className="w-20 shrink-0 font-medium">{step.step}</span>
              <span className="soft min-w-0 [overflow-wrap:anywhere]">{step.text}</span>
            </li>
          ))}
          <li className="font-medium">{test.data.works ? 'The outlet works.' : 'The outlet does not work.'}</li>
        </ol>
      ) : null}
      <button type="submit" className="btn btn-sm btn-primary" disabled={test.isPending}>
        {test.isPending ? <span className="loading loading-spinner loading-xs" aria-hidden="true" /> : null} Test
      </button>
    </Form>
  );
}
