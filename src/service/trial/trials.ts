import { MESSAGE_WORTH } from '../../core/trial/catalogue.ts';
import type { MessageFinding } from '../../core/trial/finding.ts';
import { MESSAGE_SUBJECTS, type MessageSubject, type Order } from '../../core/vocabulary.ts';
import type { Page, PageAsked } from '../../store/page.ts';
import * as store from '../../store/trials.ts';
import { TRIAL_PREFIX } from '../acceptance/routing.ts';
import { Problem } from '../base/problem.ts';
import { newTrialName } from '../base/secrets.ts';
import type { TrialDeps } from './deps.ts';
import { lookupToday, scoreTrial } from './score-trial.ts';

const DAY = 24 * 3_600_000;
/** How long an address takes its message. */
const OPEN_MS = DAY;
/** Addresses that wait at the same time. */
const MOST_OPEN = 200;

/** Where a trial stands. */
export type TrialState = 'waiting' | 'arrived' | 'scored' | 'expired';

export interface TrialHead extends Omit<store.TrialRow, 'localPart'> {
  /** Null for a sample. */
  address: string | null;
  state: TrialState;
}

/** A trial with what its message is worth, beside the time before. */
export interface TrialView extends TrialHead {
  /** When it was scored the time before; null for the first. */
  beforeAt: number | null;
  pointsBefore: number | null;
  outOfBefore: number | null;
  subjects: { subject: MessageSubject; worth: number; costs: number; costsBefore: number | null }[];
  findings: MessageFinding[];
  /** What cost something the time before, and is gone. */
  mended: MessageFinding[];
}

/** Gives an address that takes one message, and scores it. */
export async function addTrial(context: TrialDeps): Promise<TrialView> {
  const { db, clock } = context;
  const id = await db.commit(() => {
    const now = clock.now();
    if (store.countOpenTrials(db, now) >= MOST_OPEN)
      throw new Problem(
        'in-use',
        `${MOST_OPEN} such addresses are waiting for their message.`,
        'Use one of them, or remove some: tenedor rehearse messages',
      );
    return store.addTrial(db, TRIAL_PREFIX + newTrialName(), now, now + OPEN_MS);
  });
  return showTrial(context, id);
}

export function listTrials(context: TrialDeps, order: Order<'trials'>, asked: PageAsked): Page<TrialHead> {
  const page = store.pageOfTrials(context.db, order, asked);
  return { ...page, rows: page.rows.map((row) => headOf(context, row)) };
}

export function showTrial(context: TrialDeps, id: number): TrialView {
  const { file: _file, arrival: _arrival, ...trial } = requireTrial(context, id);
  const [now, before] = store.scoresOf(context.db, id, 2);
  const head = headOf(context, { ...trial, scoredAt: now?.at ?? null, points: now?.points ?? null, outOf: now?.outOf ?? null });
  const costs = (findings: readonly MessageFinding[], subject: MessageSubject): number =>
    findings.filter((one) => one.subject === subject).reduce((sum, one) => sum + one.costs, 0);
  return {
    ...head,
    beforeAt: before?.at ?? null,
    pointsBefore: before?.points ?? null,
    outOfBefore: before?.outOf ?? null,
    subjects: now
      ? MESSAGE_SUBJECTS.map((subject) => ({
          subject,
          worth: MESSAGE_WORTH[subject],
          costs: costs(now.findings, subject),
          costsBefore: before ? costs(before.findings, subject) : null,
        }))
      : [],
    findings: now?.findings ?? [],
    mended: before?.findings.filter((one) => one.costs > 0 && !now?.findings.some((other) => other.code === one.code)) ?? [],
  };
}

/** Scores the same message anew, by what DNS says today at the zones’ own servers. */
export async function scoreAgain(context: TrialDeps, id: number): Promise<TrialView> {
  const trial = requireTrial(context, id);
  if (trial.arrivedAt === null)
    throw new Problem('not-found', 'No message has come to it yet.', `Send one to ${trial.localPart}@${context.host.name}.`);
  if (trial.file === null)
    throw new Problem(
      'not-found',
      'Of a sample no text is kept.',
      'Wait for the next one, or send a message to a new address: tenedor rehearse message',
    );
  context.dns.forget();
  await scoreTrial(context, id, lookupToday(context));
  return showTrial(context, id);
}

export async function removeTrial(context: TrialDeps, id: number): Promise<void> {
  await context.db.commit(() => {
    requireTrial(context, id);
    store.removeTrial(context.db, id);
  });
}

function requireTrial({ db }: TrialDeps, id: number): store.Trial {
  const found = Number.isSafeInteger(id) ? store.findTrial(db, id) : undefined;
  if (!found) throw new Problem('not-found', `There is no message ${id} that was scored.`, 'List them: tenedor rehearse messages');
  return found;
}

function headOf({ host, clock }: TrialDeps, { localPart, ...row }: store.TrialRow): TrialHead {
  const state = row.scoredAt !== null ? 'scored' : row.arrivedAt !== null ? 'arrived' : row.expiresAt > clock.now() ? 'waiting' : 'expired';
  return { ...row, address: localPart === null ? null : `${localPart}@${host.name}`, state };
}
