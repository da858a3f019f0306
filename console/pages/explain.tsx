import { CircleCheck, CircleX, TriangleAlert } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Explanation } from '../../src/api/mail-schemas.ts';
import { call, useChange } from '../api.ts';
import { Panel, ProblemNote } from '../parts/blocks.tsx';
import { Field } from '../parts/forms.tsx';

const SIGN = {
  on: { icon: CircleCheck, colour: 'text-success', word: 'goes on' },
  note: { icon: TriangleAlert, colour: 'text-warning', word: 'note' },
  stop: { icon: CircleX, colour: 'text-error', word: 'ends here' },
} as const;
const END = {
  accepted: { text: 'It would be accepted.', colour: 'text-success' },
  held: { text: 'It would be accepted, and wait.', colour: 'text-warning' },
  refused: { text: 'It would be refused.', colour: 'text-error' },
} as const;

/** What would happen to a message, step by step, without sending one. */
export function ExplainTab() {
  const [values, setValues] = useState({ from: '', to: '', ip: '', as: '' });
  const ask = useChange<Explanation>(() =>
    call(
      'GET',
      `/explain?${new URLSearchParams({
        from: values.from.trim(),
        to: values.to.trim(),
        ...(values.ip.trim() === '' ? {} : { ip: values.ip.trim() }),
        ...(values.as.trim() === '' ? {} : { as: values.as.trim() }),
      })}`,
    ),
  );
  const input = (key: keyof typeof values, label: string, placeholder: string, hint?: string) => (
    <Field field={key} label={label} {...(hint ? { hint } : {})}>
      <input
        className="input input-sm w-full"
        placeholder={placeholder}
        required={key === 'to'}
        value={values[key]}
        onChange={(event) => setValues({ ...values, [key]: event.target.value })}
      />
    </Field>
  );
  return (
    <div className="grid grid-cols-1 items-start gap-4 lg:grid-cols-3">
      <Panel title="Predict a message’s path">
        <form
          onSubmit={(event: FormEvent) => {
            event.preventDefault();
            ask.mutate();
          }}
        >
          {input('from', 'Envelope sender', 'ana@shop.example', 'Empty for none, as in delivery reports.')}
          {input('to', 'Recipient', 'leo@northpost.example')}
          {input('as', 'Signed in as', 'ana@shop.example', 'Empty if another server delivers it.')}
          {input('ip', 'Client address', '203.0.113.10')}
          {ask.error ? <ProblemNote problem={ask.error} /> : null}
          <button type="submit" className="btn btn-sm btn-primary" disabled={ask.isPending}>
            Explain
          </button>
        </form>
      </Panel>
      <Panel title="Prediction" className="lg:col-span-2">
        {ask.data ? (
          <>
            <ol className="space-y-2" aria-label="Steps">
              {ask.data.steps.map((step) => {
                const { icon: Icon, colour, word } = SIGN[step.verdict];
                return (
                  <li key={`${step.step} ${step.text}`} className="flex gap-3 text-sm">
                    <Icon size={17} className={`mt-0.5 shrink-0 ${colour}`} aria-label={word} />
                    <span className="w-20 shrink-0 font-medium">{step.step}</span>
                    <span className="min-w-0 [overflow-wrap:anywhere]">
                      {step.text} <span className="soft block text-xs">{step.rule}</span>
                    </span>
                  </li>
                );
              })}
            </ol>
            <p className={`mt-4 font-medium ${END[ask.data.outcome].colour}`} role="status">
              {END[ask.data.outcome].text}
            </p>
          </>
        ) : (
          <p className="soft py-6 text-sm">Same rules as for a real message. Nothing is sent, charged or stored.</p>
        )}
      </Panel>
    </div>
  );
}
