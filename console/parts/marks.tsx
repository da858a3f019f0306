import { CircleCheck, CircleDashed, CircleHelp, CircleX, Clock3, TriangleAlert } from 'lucide-react';
import type { RecipientState, StepState, Verdict } from '../../src/core/vocabulary.ts';

const VERDICTS: Record<Verdict, { icon: typeof CircleCheck; colour: string }> = {
  good: { icon: CircleCheck, colour: 'text-success' },
  weak: { icon: TriangleAlert, colour: 'text-warning' },
  wrong: { icon: CircleX, colour: 'text-error' },
  missing: { icon: CircleDashed, colour: 'text-error' },
  waiting: { icon: Clock3, colour: 'text-info' },
  unknown: { icon: CircleHelp, colour: 'soft' },
};

/** A verdict by shape, word and colour. `what` names it for those who hear the page; `word` stands instead of the verdict's own. */
export function Mark({ verdict, what, word }: { verdict: Verdict | null; what?: string; word?: string }) {
  if (verdict === null)
    return (
      <span className="soft" title={what ? `${what}: not checked` : 'not checked'}>
        –
      </span>
    );
  const { icon: Icon, colour } = VERDICTS[verdict];
  return (
    <span className={`inline-flex items-center gap-1 whitespace-nowrap text-sm ${colour}`}>
      <Icon size={15} aria-hidden="true" />
      {what ? <span className="sr-only">{what}: </span> : null}
      {word ?? verdict}
    </span>
  );
}

const STATES: Record<RecipientState | 'refused' | 'accepted', string> = {
  queued: 'badge-info',
  delivered: 'badge-success',
  relayed: 'badge-success',
  delayed: 'badge-warning',
  failed: 'badge-error',
  refused: 'badge-error',
  accepted: 'badge-neutral',
};

export function StateBadge({ state, number = 1 }: { state: keyof typeof STATES; number?: number }) {
  return (
    <span className={`badge badge-soft badge-sm ${STATES[state]}`}>
      {state}
      {number > 1 ? ` ×${number}` : ''}
    </span>
  );
}

/** Sends used beside the limit. */
export function Meter({ used, limit, label, wide = false }: { used: number; limit: number | null; label: string; wide?: boolean }) {
  const share = limit === null ? 0 : limit === 0 ? 1 : Math.min(1, used / limit);
  const colour = share >= 1 ? 'bg-error' : share >= 0.85 ? 'bg-warning' : 'bg-primary';
  return (
    <div className={wide ? 'w-full' : 'w-32'}>
      <div className="flex justify-between gap-2 text-xs">
        <span>{used.toLocaleString('en')}</span>
        <span className="soft">{limit === null ? 'no limit' : `of ${limit.toLocaleString('en')}`}</span>
      </div>
      <meter className="sr-only" aria-label={label} min={0} max={limit ?? Math.max(used, 1)} value={used} />
      <div className={`mt-1 overflow-hidden rounded-full bg-base-300 ${wide ? 'h-2.5' : 'h-1.5'}`} aria-hidden="true">
        <div className={`h-full rounded-full ${colour}`} style={{ width: `${share * 100}%` }} />
      </div>
    </div>
  );
}

/** Readiness as a ring with its number. */
export function Ready({ points, large = false }: { points: number | null; large?: boolean }) {
  if (points === null) return <span className="soft text-sm">not checked</span>;
  const colour = points === 100 ? 'text-success' : points >= 60 ? 'text-warning' : 'text-error';
  const style = { '--value': points, '--size': large ? '4rem' : '2.1rem', '--thickness': large ? '6px' : '3px' } as React.CSSProperties;
  return (
    <span className={`radial-progress ${colour}`} style={style} role="img" aria-label={`readiness ${points} of 100`}>
      <span className={large ? 'font-semibold text-lg' : 'text-xs'}>{points}</span>
    </span>
  );
}

const STEPS: Record<StepState, { icon: typeof CircleCheck; colour: string }> = {
  done: { icon: CircleCheck, colour: 'text-success' },
  failed: { icon: CircleX, colour: 'text-error' },
  'not-reached': { icon: CircleDashed, colour: 'soft' },
};

/** What came of a step, by shape and colour; its state is said to those who hear the page. */
export function StepMark({ state, words }: { state: StepState; words: string }) {
  const { icon: Icon, colour } = STEPS[state];
  return (
    <span className="inline-flex items-center gap-1">
      <Icon size={15} aria-hidden="true" className={colour} />
      <span className="sr-only">{state}: </span>
      {words}
    </span>
  );
}
