import { ChevronRight, RotateCw } from 'lucide-react';
import { useEffect, useRef } from 'react';
import { Link } from 'react-router';
import type { Rehearsal, RehearsalHead } from '../../src/api/rehearsal-schemas.ts';
import type { RehearsalKind, StepState } from '../../src/core/vocabulary.ts';
import { part, useCall } from '../api.ts';
import { Answer, Panel } from './blocks.tsx';
import { StepMark } from './marks.tsx';
import { fullTime, shortTime } from './words.ts';

type Way = Rehearsal['ways'][number];

/** A test as it is asked for. */
export interface Asked {
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
export const subjectOf = ({ subject, recipient }: RehearsalHead): string => (recipient === null ? subject : `${subject} to ${recipient}`);

export const KINDS: Record<RehearsalKind, { name: string; title: string; what: string; good: string }> = {
  signin: {
    name: 'Sign in',
    title: 'Sign-in to',
    what: 'As a client: finds the server by DNS, connects to each address, verifies the certificate, signs in with a one-time pass, and opens the mailbox, on every open port.',
    good: 'Clients can sign in by every route.',
  },
  send: {
    name: 'Send',
    title: 'Mail from',
    what: 'As outgoing mail: what this server decides, then what the other server replies, up to the recipient.',
    good: 'The other server accepts sender and recipient. Include a message to test decisions that depend on it, such as DMARC.',
  },
  relay: {
    name: 'Relay',
    title: 'Open relay test of',
    what: 'As somebody who looks for open relays: at each address of this host, with every usual trick.',
    good: 'Relaying is refused everywhere.',
  },
  receive: {
    name: 'Receive',
    title: 'Mail for',
    what: 'As another server: asks the zone’s name servers for the MX records, connects to each host, starts TLS, and goes as far as the recipient. Also tests for an open relay.',
    good: 'Other servers can deliver to every host.',
  },
};

/** The key that makes the test again which is shown, unless somebody types. */
const AGAIN_KEY = 'r';

/** What came of a test, the way that fails open. */
export function Shown({ number, busy, onAgain }: { number: string; busy: boolean; onAgain: (what: Asked) => void }) {
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
                title="Run again (key R)"
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
              {one.isGood ? KINDS[one.kind].good : 'A step fails; it is expanded below.'}
              {one.beforeAt === null ? '' : ` The last run was on ${shortTime(one.beforeAt)}.`}
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
                  <p className="soft text-xs">{step.state === 'not-reached' ? 'Not reached.' : 'No dialogue.'}</p>
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
