import { CircleStop, Clock, KeyRound, Play, RefreshCw, SkipForward, Undo2, X } from 'lucide-react';
import { type ReactNode, useState } from 'react';
import { Link } from 'react-router';
import type { MovePlanDetails, Stepped } from '../../src/api/move-schemas.ts';
import { MOVE_STEP_TITLES, type MoveState, type MoveStep } from '../../src/core/vocabulary.ts';
import { call, part, useChange } from '../api.ts';
import { Panel, ProblemNote, Table } from './blocks.tsx';
import { CopyButton } from './copy.tsx';
import { type MoveAsk, MoveDialogs } from './move-dialogs.tsx';
import { ago, count, fullTime } from './words.ts';

type Step = MovePlanDetails['steps'][number];

const WORDS: Record<MoveState, string> = {
  done: 'done',
  next: 'next',
  'under-way': 'under way',
  waiting: 'waiting',
  wrong: 'wrong',
  later: 'later',
  skipped: 'left out',
};
const COLOURS: Record<MoveState, string> = {
  done: 'bg-success text-success-content',
  next: 'bg-primary text-primary-content',
  'under-way': 'bg-primary text-primary-content',
  waiting: 'bg-warning text-warning-content',
  wrong: 'bg-error text-error-content',
  later: 'bg-base-300',
  skipped: 'bg-base-300',
};
const SIGNS: Partial<Record<MoveState, string>> = { done: '✓', wrong: '✕', waiting: '…', 'under-way': '…', skipped: '–' };
const ACTS: Partial<Record<MoveStep, string>> = {
  'sign-in': 'Sign in and count',
  mailboxes: 'Make the mailboxes',
  'first-pass': 'Begin the first pass',
  sheets: 'Send the sheets',
  'last-pass': 'Begin the last pass',
};
const CAN_BE_LEFT_OUT: readonly MoveStep[] = ['first-pass', 'short-ttl', 'sheets'];
const isPass = (step: MoveStep): boolean => step === 'sign-in' || step === 'first-pass' || step === 'last-pass';
const isOpen = ({ state }: Step): boolean => state === 'next' || state === 'wrong';

/** What can be taken back of a step, and how that is called. */
function undoing({ step, state }: Step, isHere: boolean): string | null {
  if (state === 'skipped') return 'Do it now';
  if (isPass(step)) return state === 'under-way' ? 'Stop' : null;
  if (step === 'mailboxes') return state === 'done' && !isHere ? 'Remove created mailboxes' : null;
  return step === 'mx' && state === 'wrong' && isHere ? 'Pass mail on to the old server again' : null;
}

/** The path by which a domain's mail moves here, with what is next. */
export function MovePath({ plan }: { plan: MovePlanDetails }) {
  const path = `/domains/${part(plan.domain)}/move-plan`;
  const [told, setTold] = useState<Stepped | null>(null);
  const [asks, setAsks] = useState<MoveAsk | null>(null);
  const next = useChange<Stepped, MoveStep>(
    (step) => call('POST', `${path}/next`, { step }),
    (done) => setTold(done.passwords.length > 0 || done.fault !== null ? done : null),
  );
  const change = useChange<MovePlanDetails, { act: string; step?: MoveStep }>(({ act, step }) =>
    call('POST', `${path}/${act}`, step ? { step } : {}),
  );
  const busy = next.isPending || change.isPending;
  const isHere = plan.oldServer === null;
  const isOver = plan.step === null;
  const actsOf = (one: Step): ReactNode => {
    const undo = undoing(one, isHere);
    return (
      <>
        {one.isOurs && isOpen(one) ? (
          <button type="button" className="btn btn-sm btn-primary" disabled={busy} onClick={() => next.mutate(one.step)}>
            <Play size={14} aria-hidden="true" /> {one.state === 'wrong' ? 'Continue' : ACTS[one.step]}
          </button>
        ) : null}
        {!one.isOurs && (isOpen(one) || one.state === 'waiting') ? (
          <button type="button" className="btn btn-sm btn-primary" disabled={busy} onClick={() => change.mutate({ act: 'check' })}>
            <RefreshCw size={14} aria-hidden="true" /> Check now
          </button>
        ) : null}
        {CAN_BE_LEFT_OUT.includes(one.step) && (isOpen(one) || one.state === 'waiting') ? (
          <button
            type="button"
            className="btn btn-sm btn-ghost"
            disabled={busy}
            onClick={() => change.mutate({ act: 'skip', step: one.step })}
          >
            <SkipForward size={14} aria-hidden="true" /> Skip
          </button>
        ) : null}
        {undo === null ? null : (
          <button
            type="button"
            className="btn btn-sm btn-ghost"
            disabled={busy}
            onClick={() => {
              if (one.step === 'mailboxes') setAsks('undo-mailboxes');
              else if (one.step === 'mx') setAsks('undo-mx');
              else change.mutate({ act: 'undo', step: one.step });
            }}
          >
            {undo === 'Stop' ? <CircleStop size={14} aria-hidden="true" /> : <Undo2 size={14} aria-hidden="true" />} {undo}
          </button>
        )}
      </>
    );
  };
  const problem = next.error ?? change.error;
  return (
    <Panel
      title={isOver ? 'Migration complete' : `Move from ${plan.server}`}
      aside={
        <span className="flex flex-wrap gap-2">
          {isOver ? null : (
            <button type="button" className="btn btn-sm btn-ghost" onClick={() => setAsks('accounts')}>
              <KeyRound size={14} aria-hidden="true" /> Correct accounts
            </button>
          )}
          <button type="button" className={`btn btn-sm ${isOver ? 'btn-primary' : 'btn-ghost'}`} onClick={() => setAsks('end')}>
            <X size={14} aria-hidden="true" /> End the plan
          </button>
        </span>
      }
    >
      <p className="soft mb-3 text-sm">
        {count(plan.accounts.length, 'mailbox', 'mailboxes')}, started {ago(plan.begunAt)}.{' '}
        {isHere ? 'Its mail stays here.' : `Until its MX records point here, its mail is passed on to ${plan.oldServer}.`}
        {plan.lookedAt === null ? '' : ` DNS checked ${ago(plan.lookedAt)}.`}
      </p>
      {problem ? <ProblemNote problem={problem} /> : null}
      {told ? <Told told={told} onClose={() => setTold(null)} /> : null}
      <ol>
        {plan.steps.map((one, at) => (
          <li key={one.step} className="flex flex-wrap gap-x-4 gap-y-2 border-base-300 border-t py-4 first:border-0">
            <span className={`grid size-7 shrink-0 place-items-center rounded-full text-sm ${COLOURS[one.state]}`} aria-hidden="true">
              {SIGNS[one.state] ?? at + 1}
            </span>
            <div className="min-w-60 flex-1 [overflow-wrap:anywhere]">
              <h3 className="font-medium">
                {MOVE_STEP_TITLES[one.step]} <span className="soft font-normal text-sm">{WORDS[one.state]}</span>
              </h3>
              {one.state === 'later' ? null : (
                <div className="soft text-sm">
                  {one.said}
                  {one.advice === '' ? null : <span className="mt-1 block text-base-content">{one.advice}</span>}
                  {one.until === null ? null : (
                    <span className="mt-1 flex items-center gap-1">
                      <Clock size={14} aria-hidden="true" /> until {fullTime(one.until)}
                    </span>
                  )}
                  {one.step === 'mx' && isOpen(one) ? (
                    <Link className="link mt-1 block" to={`/domains/${plan.domain}?tab=records`}>
                      See the records
                    </Link>
                  ) : null}
                </div>
              )}
            </div>
            <div className="flex shrink-0 flex-wrap items-start gap-2">{actsOf(one)}</div>
          </li>
        ))}
      </ol>
      <MoveDialogs plan={plan} asks={asks} onClose={() => setAsks(null)} />
    </Panel>
  );
}

/** Passwords that were made, shown this once, and what kept a step from being whole. */
function Told({ told: { passwords, fault }, onClose }: { told: Stepped; onClose: () => void }) {
  const text = passwords.map((one) => `${one.address}\t${one.password}`).join('\n');
  return (
    <div className="mb-4 rounded-box border border-base-300 p-3 text-sm">
      {fault === null ? null : <p className="mb-2 text-error">{fault}</p>}
      {passwords.length > 0 ? (
        <>
          <p className="mb-2">These passwords are shown only now. Hand them over now.</p>
          <Table label="New passwords">
            <tbody>
              {passwords.map((one) => (
                <tr key={one.address}>
                  <td className="[overflow-wrap:anywhere]">{one.address}</td>
                  <td className="record-text">{one.password}</td>
                </tr>
              ))}
            </tbody>
          </Table>
          <CopyButton text={text} what="the passwords" />
        </>
      ) : null}
      <button type="button" className="btn btn-sm btn-ghost mt-2" onClick={onClose}>
        Done
      </button>
    </div>
  );
}
