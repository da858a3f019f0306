import { type FormEvent, useState } from 'react';
import type { SpfExplanation } from '../../src/api/dns-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { call, part, useChange } from '../api.ts';
import { Panel, ProblemNote } from '../parts/blocks.tsx';
import { Field } from '../parts/forms.tsx';

const COLOURS: Record<SpfExplanation['result'], string> = {
  pass: 'badge-success',
  none: 'badge-neutral',
  neutral: 'badge-warning',
  softfail: 'badge-warning',
  fail: 'badge-error',
  temperror: 'badge-error',
  permerror: 'badge-error',
};
const OUTCOMES: Record<SpfExplanation['steps'][number]['outcome'], string> = {
  match: 'matches',
  'no-match': 'does not match',
  result: 'gives',
  error: 'ends the evaluation',
};

/** Evaluates the record for any client, step by step. */
export function SpfPanel({ domain }: { domain: Domain }) {
  const [ip, setIp] = useState('');
  const explain = useChange<SpfExplanation[]>(() =>
    call('GET', `/spf/${part(domain.name)}${ip.trim() === '' ? '' : `?${new URLSearchParams({ ip: ip.trim() })}`}`),
  );
  return (
    <Panel title="SPF result for a sender">
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(event: FormEvent) => {
          event.preventDefault();
          explain.mutate();
        }}
      >
        <div className="w-72">
          <Field field="ip" label="Address of the sending server" hint="Empty for this host’s own addresses.">
            <input className="input input-sm w-full" value={ip} placeholder="192.0.2.25" onChange={(event) => setIp(event.target.value)} />
          </Field>
        </div>
        <button type="submit" className="btn btn-sm mb-8" disabled={explain.isPending}>
          Explain
        </button>
      </form>
      {explain.error ? <ProblemNote problem={explain.error} /> : null}
      <div className="space-y-4">
        {explain.data?.map((one) => (
          <Explanation key={one.clientAddress} one={one} />
        ))}
      </div>
    </Panel>
  );
}

function Explanation({ one }: { one: SpfExplanation }) {
  return (
    <section aria-label={`SPF for ${one.clientAddress}`} className="rounded-field border border-base-300 p-3 text-sm">
      <p className="flex flex-wrap items-center gap-2">
        <span className="record-text">{one.clientAddress}</span>
        <span className={`badge badge-soft badge-sm ${COLOURS[one.result]}`}>{one.result}</span>
        <span className="min-w-0 flex-1">{one.reason}</span>
        <span className="soft whitespace-nowrap">{one.lookups} of 10 look-ups</span>
      </p>
      {one.explanation ? <p className="mt-1">The domain says: “{one.explanation}”</p> : null}
      <ol className="mt-2 space-y-1">
        {one.steps.map((step, at) => (
          <li
            // biome-ignore lint/suspicious/noArrayIndexKey: the steps of one evaluation, in their order
            key={at}
            style={{ paddingLeft: `${(step.depth * 2 + (step.kind === 'term' ? 1 : 0)) * 1.25}rem` }}
          >
            <span className="record-text">
              {step.kind === 'record' ? <strong>{step.domain} </strong> : null}
              {step.text || 'no record'}
            </span>{' '}
            <span className={step.outcome === 'match' ? 'text-success' : step.outcome === 'error' ? 'text-error' : 'soft'}>
              {OUTCOMES[step.outcome]} {step.outcome === 'match' && step.note !== '' ? `(${step.note})` : step.note}
            </span>
            {step.lookups > (one.steps[at - 1]?.lookups ?? 0) ? <span className="soft"> · look-up {step.lookups}</span> : null}
            {step.kind === 'term'
              ? step.asked.map((ask) => (
                  <span key={`${ask.type} ${ask.name}`} className="soft record-text block pl-5">
                    {ask.type} {ask.name} → {ask.answer}
                  </span>
                ))
              : null}
          </li>
        ))}
      </ol>
    </section>
  );
}
