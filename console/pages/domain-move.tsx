import type { FormEvent } from 'react';
import { useState } from 'react';
import type { MovePlanDetails } from '../../src/api/move-schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Answer, Panel } from '../parts/blocks.tsx';
import { Field, Form, FormEnd } from '../parts/forms.tsx';
import { MovePath } from '../parts/move-path.tsx';
import { askedServer, or, ServerFields, useServer } from '../parts/server-fields.tsx';

/** A domain's move from another server, or the form that begins one. */
export function MoveTab({ domain }: { domain: string }) {
  const query = useCall<MovePlanDetails>(`/domains/${part(domain)}/move-plan`, { everyMs: 1000 });
  if (query.error?.code === 'not-found') return <Begin domain={domain} />;
  return <Answer query={query}>{(plan) => <MovePath plan={plan} />}</Answer>;
}

function Begin({ domain }: { domain: string }) {
  const [server, setServer] = useServer();
  const [mailServer, setMailServer] = useState('');
  const begin = useChange<MovePlanDetails>(() =>
    call('POST', `/domains/${part(domain)}/move-plan`, { ...askedServer(server), mailServer: or(mailServer) }),
  );
  return (
    <Panel title="Migrate this domain from another server">
      <p className="soft mb-4 max-w-3xl text-sm">
        Seven steps: sign in there, create the mailboxes, copy the mail, lower the TTL of the MX records, send client settings, change the
        MX records, and copy what still arrives at the old server. Each step is verified before the next. Until the MX records point here,
        mail for the domain is passed on to the old server, so users find all their mail in one place.
      </p>
      <Form
        problem={begin.error}
        className="max-w-2xl"
        onSubmit={(event: FormEvent) => {
          event.preventDefault();
          begin.mutate();
        }}
      >
        <ServerFields server={server} onChange={setServer} example={`pau, secret of Pau, pau@${domain}`} />
        <Field field="mailServer" label="Current mail server" hint="Empty for the one in its MX records.">
          <input className="input w-full" value={mailServer} onChange={(event) => setMailServer(event.target.value)} />
        </Field>
        <FormEnd action="Begin the move" busy={begin.isPending} problem={begin.error} onCancel={null} />
      </Form>
    </Panel>
  );
}
