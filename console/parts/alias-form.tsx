import { type FormEvent, useState } from 'react';
import type { Alias, Domain } from '../../src/api/schemas.ts';
import { call, part, useChange } from '../api.ts';
import { Field, Form, FormEnd } from './forms.tsx';
import { LocalPart } from './mailbox-forms.tsx';

/** Adds an alias, or changes where one leads. */
export function AliasForm({ domain, alias, onClose }: { domain: Domain; alias: Alias | null; onClose: () => void }) {
  const [local, setLocal] = useState('');
  const [targets, setTargets] = useState(alias?.targets.join('\n') ?? '');
  const list = targets.split(/[\s,;]+/).filter((one) => one !== '');
  const save = useChange<Alias>(
    () =>
      alias
        ? call('PATCH', `/aliases/${part(alias.address)}`, { targets: list }, alias.revision)
        : call('POST', '/aliases', { address: `${local}@${domain.name}`, targets: list }),
    onClose,
  );
  return (
    <Form
      problem={save.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {alias ? null : (
        <Field field="address" label="Name before the @">
          <LocalPart domain={domain} value={local} onChange={setLocal} />
        </Field>
      )}
      <Field
        field="targets"
        label="Targets"
        hint="One address per line, here or elsewhere. Mail forwarded elsewhere counts as sends of this domain."
      >
        <textarea className="textarea w-full" rows={4} required value={targets} onChange={(event) => setTargets(event.target.value)} />
      </Field>
      <FormEnd action={alias ? 'Save' : 'Add the alias'} busy={save.isPending} problem={save.error} onCancel={onClose} />
    </Form>
  );
}
