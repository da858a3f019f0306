import { ChevronRight, Play, RotateCw } from 'lucide-react';
import { type FormEvent, useEffect, useRef, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { Rehearsal, RehearsalHead, Witness } from '../../src/api/rehearsal-schemas.ts';
import { REHEARSALS, type RehearsalKind, type StepState } from '../../src/core/vocabulary.ts';
import { call, part, useAll, useCall, useChange } from '../api.ts';
import { Answer, Empty, Panel, ProblemNote } from './blocks.tsx';
import { Listing } from './listing.tsx';
import { StepMark } from './marks.tsx';
import { fullTime, shortTime } from './words.ts';

type Way = Rehearsal['ways'][number];

interface Asked {
  kind: RehearsalKind;
  address: string;
  /** Of what is sent. */
  to: string;
  /** Who takes the steps; null for this host. */
  witness: string | null;
  /** Whether a real message is sent. */
  message: boolean;
}
const askedOf = ({ kind, subject, recipient, witness, ways }: Rehearsal): Asked => ({
  kind,
  address: subject,
  to: recipient ?? '',
  witness,
  message: ways.some((way) => way.steps.some((step) => step.key === 'message' || step.key === 'submit')),
});
const subjectOf = ({ subject, recipient }: RehearsalHead): string => (recipient === null ? subject : `${subject} to ${recipient}`);

const KINDS: Record<RehearsalKind, { name: string; title: string; what: string; good: string }> = {
  signin: {
    name: 'Sign in',
    title: 'Sign-in to',
    what: 'As a mail program: finds the server by DNS, connects to each of its addresses, looks at the certificate, signs in with a pass of the service’s own, and opens the mailbox, on every way that is open here.',
    good: 'A mail program gets in on every way.',
  },
  send: {
    name: 'Send',
    title: 'Mail from',
    what: 'As a message that leaves: what is decided here, and then what the other server says, up to the recipient.',
    good: 'The other server takes it.',
  },
  relay: {
    name: 'Relay',
    title: 'Mail for strangers at',
    what: 'As whoever looks for a server that passes on mail of anybody: at each address of this host, in all the ways in which that is tried.',
    good: 'No mail of strangers is passed on.',
  },
  receive: {
    name: 'Receive',
    title: 'Mail for',
    what: 'As another server: asks the zone’s own servers for the MX records, connects to each host, begins TLS, and goes as far as the recipient; and tries to have mail for strangers passed on.',
    good: 'Another server gets rid of its mail at every host.',
  },
};

/** What a real message means. */
const REAL: Record<Exclude<RehearsalKind, 'relay'>, string> = {
  signin: 'and send itself a message, which is taken away again',
  receive: 'and bring a message, which is taken away again',
  send: 'and send a message, which is charged and stays there',
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
      <Panel title="Do what a client would, step by step">
        <p className="soft mb-3 text-sm">{KINDS[kind].what} Nobody’s password is used, and without a message nothing is sent or changed.</p>
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
        <Panel title="Tests that were made">
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
                heading: 'Of',
                sort: 'subject',
                cell: (one) => (
                  <button type="button" className="link link-hover text-left" onClick={() => open(one.id)}>
                    {subjectOf(one)}
                  </button>
                ),
              },
              { heading: 'What', cell: (one) => KINDS[one.kind].name },
              { heading: 'From', cell: (one) => one.witness ?? 'this host' },
              {
                heading: 'Came to',
                cell: (one) => <StepMark state={one.isGood ? 'done' : 'failed'} words={one.isGood ? 'all is well' : 'something fails'} />,
              },
            ]}
            empty={<Empty>None was made yet.</Empty>}
          />
        </Panel>
      </div>
    </>
  );
}

/** The key that makes the test again which is shown, unless somebody types. */
const AGAIN_KEY = 'r';

function Shown({ number, busy, onAgain }: { number: string; busy: boolean; onAgain: (what: Asked) => void }) {
  const query = useCall<Rehearsal>(`/rehearsals/${encodeURIComponent(number)}`);
  const latest = useRef<() => void>(() => {});
  latest.current = () => {
    if (query.data && !busy) onAgain(askedOf(query.data));
  };
  useEffect(() => {
    const pressed = (event: KeyboardEvent): void => {
      const isTyped = event.target instanceof HTMLElement && event.target.closest('input, select, textarea') !== null;
      if (event.key === AGAIN_KEY && !isTyped && !event.ctrlKey && !event.metaKey && !event.altKey) latest.current();
    };
    document.addEventListener('keydown', pressed);
    return () => document.removeEventListener('keydown', pressed);
  }, []);
  return (
    <div className="mt-4">
      <Answer query={query}>
        {(one) => (
          <Panel
            title={`${KINDS[one.kind].title} ${subjectOf(one)}, ${fullTime(one.at)}`}
            aside={
              <button
                type="button"
                className="btn btn-sm"
                title="Make it again (key R)"
                aria-keyshortcuts={AGAIN_KEY}
                disabled={busy}
                onClick={() => onAgain(askedOf(one))}
              >
                <RotateCw size={14} aria-hidden="true" /> Again
              </button>
            }
          >
            <p role="status" className="mb-3 text-sm">
              {one.witness === null ? '' : `Seen from ${one.witness}. `}
              {one.isGood ? KINDS[one.kind].good : 'Something fails; the step that does is open.'}
              {one.beforeAt === null ? '' : ` The time before was ${shortTime(one.beforeAt)}.`}
            </p>
            <div className="space-y-2">
              {one.ways.map((way) => (
                <WayBlock key={`${one.id} ${way.name}`} way={way} />
              ))}
            </div>
          </Panel>
        )}
      </Answer>
    </div>
  );
}

const stateOf = ({ steps }: Way): StepState => (steps.every((one) => one.state === 'done') ? 'done' : 'failed');

function WayBlock({ way }: { way: Way }) {
  const state = stateOf(way);
  return (
    <details className="group/way rounded-box border border-base-300 p-3" open={state !== 'done'}>
      <summary className="flex cursor-pointer items-center gap-2 font-medium text-sm">
        <ChevronRight size={14} aria-hidden="true" className="transition-transform group-open/way:rotate-90" />
        {way.name}
        <StepMark state={state} words={state === 'done' ? (way.steps.length === 1 ? 'done' : `all ${way.steps.length} steps`) : 'fails'} />
      </summary>
      <ol className="mt-2 space-y-1 pl-5">
        {way.steps.map((step) => (
          <li key={step.key} className="text-sm">
            <details className="group/step" open={step.state === 'failed'}>
              <summary className="flex cursor-pointer flex-wrap items-center gap-x-2">
                <StepMark state={step.state} words={step.name} />
                <span className="soft">{step.state === 'done' ? step.seen : ''}</span>
                {step.ms === null ? null : <span className="soft text-xs">{step.ms} ms</span>}
                {step.before === null ? null : <span className="badge badge-sm">{step.before} the time before</span>}
              </summary>
              <div className="mt-1 mb-2 pl-6">
                {step.state === 'failed' ? (
                  <>
                    <p>{step.seen}</p>
                    <p className="soft">{step.action}</p>
                  </>
                ) : null}
                {step.journeyId === null ? null : (
                  <p>
                    <Link className="link" to={`/traffic/${part(step.journeyId)}`}>
                      Its journey
                    </Link>
                  </p>
                )}
                {step.said.length === 0 ? (
                  <p className="soft text-xs">{step.state === 'not-reached' ? 'It was not reached.' : 'Nothing was said.'}</p>
                ) : (
                  <dl className="record-text grid grid-cols-[auto_1fr] gap-x-3 text-xs">
                    {step.said.map((line, at) => (
                      // biome-ignore lint/suspicious/noArrayIndexKey: what was said has no name but its place.
                      <div key={at} className="contents">
                        <dt className="soft">{line.by}</dt>
                        <dd className="whitespace-pre-wrap break-all">{line.text}</dd>
                      </div>
                    ))}
                  </dl>
                )}
              </div>
            </details>
          </li>
        ))}
      </ol>
    </details>
  );
}
