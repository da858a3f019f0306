import { Play } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import { useSearchParams } from 'react-router';
import type { Rehearsal, RehearsalHead, Witness } from '../../src/api/rehearsal-schemas.ts';
import { REHEARSALS, type RehearsalKind } from '../../src/core/vocabulary.ts';
import { call, useAll, useChange } from '../api.ts';
import { Empty, Panel, ProblemNote } from './blocks.tsx';
import { Listing } from './listing.tsx';
import { StepMark } from './marks.tsx';
import { type Asked, KINDS, Shown, subjectOf } from './step-results.tsx';
import { fullTime } from './words.ts';

/** What a real message means. */
const REAL: Record<Exclude<RehearsalKind, 'relay'>, string> = {
  signin: 'with a message, removed again',
  receive: 'with a message, removed again',
  send: 'with a message, charged and not removed',
};

/** Steps that a client or another server would take. */
export function StepTests() {
  const [params, setParams] = useSearchParams();
  const [address, setAddress] = useState(params.get('address') ?? '');
  const shown = params.get('number');
  const open = (id: number): void => setParams({ number: String(id) });
  const [kind, setKind] = useState<RehearsalKind>('signin');
  const [to, setTo] = useState('');
  const [witness, setWitness] = useState('');
  const [message, setMessage] = useState(false);
  const witnesses = useAll<Witness>('/witnesses').data?.filter((one) => one.isIntroduced && one.url !== null) ?? [];
  const run = useChange<Rehearsal, Asked>(
    ({ kind: what, address: whose, to: whom, witness: by, message: real }) =>
      call(
        'POST',
        `/rehearsals/${what}`,
        what === 'send'
          ? { from: whose, to: whom, message: real }
          : what === 'relay'
            ? { witness: by }
            : { address: whose, witness: by, message: real },
      ),
    ({ id }) => open(id),
  );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    run.mutate({ kind, address: address.trim(), to: to.trim(), witness: witness === '' || kind === 'send' ? null : witness, message });
  };
  return (
    <>
      <Panel title="Step-by-step test">
        <p className="soft mb-3 text-sm">{KINDS[kind].what} No user’s password is used. Without a message, nothing is sent or changed.</p>
        <form onSubmit={submit} className="flex flex-wrap gap-2">
          <select
            className="select w-auto"
            aria-label="What to test"
            value={kind}
            onChange={(event) => setKind(event.target.value as RehearsalKind)}
          >
            {REHEARSALS.map((one) => (
              <option key={one} value={one}>
                {KINDS[one].name}
              </option>
            ))}
          </select>
          {kind === 'relay' ? null : (
            <input
              className="input w-80"
              required
              aria-label="Address"
              placeholder="ana@shop.example"
              value={address}
              onChange={(event) => setAddress(event.target.value)}
            />
          )}
          {kind === 'send' ? (
            <input
              className="input w-80"
              required
              aria-label="To"
              placeholder="leo@far.example"
              value={to}
              onChange={(event) => setTo(event.target.value)}
            />
          ) : null}
          {kind === 'send' || witnesses.length === 0 ? null : (
            <select className="select w-auto" aria-label="From where" value={witness} onChange={(event) => setWitness(event.target.value)}>
              <option value="">from this host</option>
              {witnesses.map((one) => (
                <option key={one.name} value={one.name}>
                  from {one.name}
                </option>
              ))}
            </select>
          )}
          {kind === 'relay' ? null : (
            <label className="flex cursor-pointer items-center gap-2 text-sm">
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                checked={message}
                onChange={(event) => setMessage(event.target.checked)}
              />
              {REAL[kind]}
            </label>
          )}
          <button type="submit" className="btn btn-primary" disabled={run.isPending}>
            {run.isPending ? (
              <span className="loading loading-spinner loading-sm" aria-hidden="true" />
            ) : (
              <Play size={14} aria-hidden="true" />
            )}{' '}
            Test
          </button>
        </form>
        {run.error ? <ProblemNote problem={run.error} /> : null}
      </Panel>
      {shown === null ? null : <Shown number={shown} busy={run.isPending} onAgain={(what) => run.mutate(what)} />}
      <div className="mt-4">
        <Panel title="Recent tests">
          <Listing<RehearsalHead>
            name="made"
            path="/rehearsals"
            everyMs={10_000}
            searchFor="tests"
            keyOf={(one) => one.id}
            nameOf={(one) => `test ${one.id}`}
            columns={[
              { heading: 'When', sort: 'at', down: true, className: 'whitespace-nowrap', cell: (one) => fullTime(one.at) },
              {
                heading: 'Subject',
                sort: 'subject',
                cell: (one) => (
                  <button type="button" className="link link-hover text-left" onClick={() => open(one.id)}>
                    {subjectOf(one)}
                  </button>
                ),
              },
              { heading: 'Test', cell: (one) => KINDS[one.kind].name },
              { heading: 'From', cell: (one) => one.witness ?? 'this host' },
              {
                heading: 'Result',
                cell: (one) => <StepMark state={one.isGood ? 'done' : 'failed'} words={one.isGood ? 'all is well' : 'something fails'} />,
              },
            ]}
            empty={<Empty>No tests yet.</Empty>}
          />
        </Panel>
      </div>
    </>
  );
}
