import { type FormEvent, useState } from 'react';
import type { MovePlanDetails } from '../../src/api/move-schemas.ts';
import { call, part, useChange } from '../api.ts';
import { Dialog, Field, Form, FormEnd } from './forms.tsx';
import { accountsOf } from './server-fields.tsx';

/** What is asked before it is done. */
export type MoveAsk = 'end' | 'undo-mailboxes' | 'undo-mx' | 'accounts';

interface Props {
  plan: MovePlanDetails;
  asks: MoveAsk | null;
  onClose: () => void;
}

const TITLES: Record<MoveAsk, string> = {
  end: 'End the move plan',
  'undo-mailboxes': 'Remove the mailboxes created by this plan',
  'undo-mx': 'Pass mail on to the old server again',
  accounts: 'Correct accounts, or add some',
};

export function MoveDialogs({ plan, asks, onClose }: Props) {
  const path = `/domains/${part(plan.domain)}/move-plan`;
  const end = useChange<object>(() => call('DELETE', path), onClose);
  const undo = useChange<object, string>((step) => call('POST', `${path}/undo`, { step }), onClose);
  const isOver = plan.step === null || plan.oldServer === null;
  return (
    <Dialog title={asks === null ? '' : TITLES[asks]} open={asks !== null} onClose={onClose}>
      {asks === 'accounts' ? <Accounts plan={plan} path={path} onClose={onClose} /> : null}
      {asks === 'end' ? (
        <Form problem={end.error} onSubmit={submits(() => end.mutate())}>
          <p className="mb-3">
            {isOver
              ? 'Mail stays here. The old server’s passwords are deleted.'
              : 'Mail for the domain will stay here immediately, although its MX records still point elsewhere. The old server’s passwords are deleted.'}
          </p>
          <FormEnd action="End the plan" busy={end.isPending} problem={end.error} onCancel={onClose} />
        </Form>
      ) : null}
      {asks === 'undo-mailboxes' ? (
        <Form problem={undo.error} onSubmit={submits(() => undo.mutate('mailboxes'))}>
          <p className="mb-3">Their imported mail is removed too. They can be restored for some days.</p>
          <FormEnd action="Remove them" busy={undo.isPending} problem={undo.error} onCancel={onClose} danger />
        </Form>
      ) : null}
      {asks === 'undo-mx' ? (
        <Form problem={undo.error} onSubmit={submits(() => undo.mutate('mx'))}>
          <p className="mb-3">Mail for the domain is passed on to the old server again. Mail that arrived in the meantime stays here.</p>
          <FormEnd action="Pass it on" busy={undo.isPending} problem={undo.error} onCancel={onClose} />
        </Form>
      ) : null}
    </Dialog>
  );
}

const submits =
  (act: () => void) =>
  (event: FormEvent): void => {
    event.preventDefault();
    act();
  };

/** A password that was wrong, or a person that was forgotten. */
function Accounts({ plan, path, onClose }: { plan: MovePlanDetails; path: string; onClose: () => void }) {
  const [lines, setLines] = useState('');
  const change = useChange<object>(() => call('POST', `${path}/accounts`, { accounts: accountsOf(lines, plan.hasMaster) }), onClose);
  return (
    <Form problem={change.error} onSubmit={submits(() => change.mutate())}>
      <p className="soft mb-3 text-sm [overflow-wrap:anywhere]">
        In the plan: {plan.accounts.map((one) => (one.user === one.address ? one.user : `${one.user} for ${one.address}`)).join(', ')}.
      </p>
      <Field
        field="accounts"
        label="Accounts, one a line"
        hint="Each line: user there, password, address here. Other accounts stay unchanged."
      >
        <textarea
          className="textarea w-full font-mono text-xs"
          rows={4}
          required
          placeholder={`pau, secret of Pau, pau@${plan.domain}`}
          value={lines}
          onChange={(event) => setLines(event.target.value)}
        />
      </Field>
      <FormEnd action="Keep these" busy={change.isPending} problem={change.error} onCancel={onClose} />
    </Form>
  );
}
