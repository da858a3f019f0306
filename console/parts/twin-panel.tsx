import { type FormEvent, useState } from 'react';
import type { Domain, DomainPage } from '../../src/api/schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { AskFirst } from './ask-first.tsx';
import { Panel, ProblemNote } from './blocks.tsx';
import { Field, Form, FormProblem } from './forms.tsx';

/** Every address of a twin means the same name of another domain. */
export function TwinPanel({ domain }: { domain: Domain }) {
  const [of, setOf] = useState('');
  const domains = useCall<DomainPage>(`/domains?limit=20&search=${part(of)}`);
  const path = `/domains/${part(domain.name)}/twin`;
  const add = useChange<Domain>(() => call('PUT', path, { of }));
  const end = useChange<Domain>(() => call('DELETE', path));
  return (
    <Panel title="Twin">
      {domain.twinOf ? (
        <>
          <p className="mb-3 text-sm">
            Every address of {domain.display} delivers to the same name in {domain.twinOf}.
          </p>
          <AskFirst
            label="End twin"
            question={`Addresses in ${domain.display} no longer deliver to ${domain.twinOf}; the domain has its own mailboxes and aliases again.`}
            action="End twin"
            act={() => end.mutate()}
            disabled={end.isPending}
          />
        </>
      ) : (
        <Form
          problem={add.error}
          onSubmit={(event: FormEvent) => {
            event.preventDefault();
            add.mutate();
          }}
        >
          <Field
            field="of"
            label="Twin of"
            hint="Alias domain: every address delivers to the same name there, with that domain’s mailboxes, aliases and passwords."
          >
            <input className="input w-full" required list="twin-of" value={of} onChange={(event) => setOf(event.target.value)} />
          </Field>
          <datalist id="twin-of">
            {(domains.data?.rows ?? [])
              .filter((one) => one.name !== domain.name && one.twinOf === null)
              .map((one) => (
                <option key={one.name} value={one.name} />
              ))}
          </datalist>
          <button type="submit" className="btn btn-sm" disabled={add.isPending}>
            Make it a twin
          </button>
          <FormProblem problem={add.error} />
        </Form>
      )}
      {end.error ? <ProblemNote problem={end.error} /> : null}
    </Panel>
  );
}
