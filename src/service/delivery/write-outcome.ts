import { amountsOf } from '../../core/limits/amounts.ts';
import { nextAttempt } from '../../core/retry/schedule.ts';
import type { RecipientState } from '../../core/vocabulary.ts';
import { addEntry, addSteps, type JourneyStep } from '../../store/journeys.ts';
import { chargeOutlet, noteOutcome } from '../../store/ledger.ts';
import type { Outlet } from '../../store/outlets.ts';
import { changeRecipient, noteDelayTold, type QueueItem } from '../../store/queue.ts';
import type { AttemptResult, RemoteHost } from '../base/ports.ts';
import { toSteady, toWall } from '../base/service-clock.ts';
import type { Reservation } from '../limits/reservation.ts';
import type { DeliveryDeps } from './deps.ts';
import type { OutgoingText } from './outgoing-text.ts';
import { type Reported, type ReportSubject, reportDelivery, wantsWord } from './report-delivery.ts';

/** From then on the sender is told once that a message is delayed (RFC 3461 §4.1). */
const TELL_DELAY_AFTER_MS = 4 * 3_600_000;
/** Without any outlet to wait for: whoever switches one on wakes all who wait, so this only catches what else may have changed. */
const NO_OUTLET_MS = 10 * 60_000;
const AGAIN_SOON_MS = 1000;
/** Outcomes wait so long for others to share a transaction with: nobody waits for them. */
const WRITTEN_WITHIN_MS = 20;

/** The host that was spoken to, and how. */
export interface HostSpoken {
  host: RemoteHost | null;
  tls: string | null;
  dsn: boolean;
  /** What was unlike what was wanted: TLS that broke, say. */
  note: string | null;
}
const NOBODY: HostSpoken = { host: null, tls: null, dsn: false, note: null };

/** What one attempt came to for one recipient. */
export interface RecipientResult {
  item: QueueItem;
  /** `wait`: nothing was tried, because an outlet has nothing left. `given-up`: nothing was tried, and nothing will be. */
  kind: 'relayed' | 'later' | 'never' | 'wait' | 'given-up';
  status: string;
  text: string;
  spoken: HostSpoken;
  until: number | null;
}

/** What that means for the recipient. */
interface Outcome {
  result: RecipientResult;
  state: RecipientState;
  attempts: number;
  nextAttemptAt: number | null;
  /** Whether the sender is told now that it is delayed. */
  tellsDelay: boolean;
}

/** What an attempt came to. `how` tells how the other server fared. */
export interface Attempt {
  perRecipient: RecipientResult[];
  signed: OutgoingText['signed'];
  how: 'good' | 'busy' | 'away';
  outlet: Outlet | null;
  reservation: Reservation | null;
  /** Why it was dropped by hand; null when it was not. */
  dropped: string | null;
  /** Whether an outlet was changed since it was decided to wait for one. */
  isOutdated: () => boolean;
  /** What was reported of it; null until that is done. */
  reported: JourneyStep[] | null;
}

/** A result; of our own, about no host, where none was spoken to. */
export const recipientResult = (
  item: QueueItem,
  kind: RecipientResult['kind'],
  status: string,
  text: string,
  spoken: HostSpoken = NOBODY,
  until: number | null = null,
): RecipientResult => ({ item, kind, status, text, spoken, until });

/** What a server said of each recipient, and how it fared. */
export function resultsOf(
  group: readonly QueueItem[],
  { outcomes, tls, dsn, note }: Extract<AttemptResult, { kind: 'done' }>,
  host: RemoteHost | null,
): Pick<Attempt, 'perRecipient' | 'how'> {
  const spoken = { host, tls, dsn, note: note ?? null };
  const perRecipient = group.map((item, at) => {
    const outcome = outcomes[at];
    if (!outcome) return recipientResult(item, 'later', '4.5.0', 'the server gave no reply for this recipient', spoken);
    const text = `${outcome.reply.code} ${outcome.reply.text}`;
    const status = /^[245]\.\d{1,3}\.\d{1,3}/.exec(outcome.reply.text)?.[0] ?? `${Math.floor(outcome.reply.code / 100)}.0.0`;
    return recipientResult(item, outcome.kind === 'taken' ? 'relayed' : outcome.kind, status, text, spoken);
  });
  const isOver = outcomes.some((one) => one.reply.code === 421);
  return { perRecipient, how: isOver ? 'away' : outcomes.every((one) => one.kind === 'later') ? 'busy' : 'good' };
}

/** An attempt that got as far as a host. */
export const attemptAt = (
  perRecipient: RecipientResult[],
  { signed, how, outlet, reservation }: Pick<Attempt, 'signed' | 'how' | 'outlet' | 'reservation'>,
): Attempt => ({ perRecipient, signed, how, outlet, reservation, dropped: null, isOutdated: () => false, reported: null });

/** An attempt for which nothing was sent. */
export const nothingSent = (
  perRecipient: RecipientResult[],
  { how = 'good', dropped = null, isOutdated = () => false }: Partial<Pick<Attempt, 'how' | 'dropped' | 'isOutdated'>> = {},
): Attempt => ({ perRecipient, signed: null, how, outlet: null, reservation: null, dropped, isOutdated, reported: null });

/**
 * Writes down what became of each recipient. Reports go out first: should the service be killed in between,
 * the sender is told twice rather than never. Returns whether somebody is tried again later.
 */
export async function writeOutcome(context: DeliveryDeps, attempt: Attempt, random: () => number): Promise<boolean> {
  const { perRecipient, signed, outlet, reservation, dropped, isOutdated } = attempt;
  const { db, clock, metrics, signals, limits } = context;
  const first = perRecipient[0]?.item as QueueItem;
  const now = clock.now();
  const due = clock.steady();
  const outcomes: Outcome[] = perRecipient.map((result) => {
    const { item, kind } = result;
    const isTried = kind !== 'wait' && kind !== 'given-up';
    const next = kind === 'later' || kind === 'wait' ? nextTry(result, context.clock, random) : null;
    const failed = kind === 'never' || kind === 'given-up' || next?.kind === 'give-up';
    const state: RecipientState = kind === 'relayed' ? 'relayed' : failed ? 'failed' : isTried ? 'delayed' : item.state;
    const attempts = item.attempts + (isTried ? 1 : 0);
    return { result, state, attempts, nextAttemptAt: next?.kind === 'again' ? next.at : null, tellsDelay: false };
  });
  // Reports are sent once, however often it takes to write the outcome down.
  attempt.reported ??= await report(context, first, outcomes, due);
  const steps = attempt.reported;
  const taken = outcomes.filter((one) => one.state === 'relayed').length;
  const amounts = amountsOf({ sends: taken, bytes: first.size });
  const write = () => {
    const done: JourneyStep[] = signed === null ? [] : [{ at: now, event: 'signed', data: signed }];
    // What is searched for by its reply has a row of its own.
    const troubles: JourneyStep[] = [];
    for (const { result, state, attempts, nextAttemptAt: next } of outcomes) {
      const { item, kind, status, text } = result;
      const { host, tls, note } = result.spoken;
      const nextAttemptAt = next !== null && kind === 'wait' && isOutdated() ? due + AGAIN_SOON_MS : next;
      changeRecipient(db, item.id, { state, attempts, nextAttemptAt, reply: text, at: now, wantsOutlet: kind === 'wait' });
      // A recipient that was tried is never `queued` any more.
      const isWaiting = (kind === 'wait' && state !== 'failed') || state === 'queued' || state === 'delivered';
      const named = isWaiting ? 'waits-for-outlet' : state;
      const data = {
        recipient: item.address,
        host: host?.name ?? null,
        address: host?.address ?? null,
        tls,
        outlet: outlet?.name ?? null,
        reply: text,
        status,
        attempt: attempts,
        note: note ?? undefined,
        nextAttemptAt: nextAttemptAt ? toWall(clock, nextAttemptAt) : undefined,
      };
      if (state === 'relayed') done.push({ at: now, event: named, data });
      else if (dropped !== null) troubles.push({ at: now, event: 'dropped', data: { reason: dropped, ...data } });
      else troubles.push({ at: now, event: named, data });
      if ((state === 'relayed' || state === 'failed') && item.senderDomain !== null && item.kind !== 'report')
        noteOutcome(db, {
          domain: { id: item.senderDomainId, name: item.senderDomain },
          mailboxId: item.mailboxId,
          acceptedAt: item.acceptedAt,
          at: now,
          state,
        });
    }
    for (const { result, tellsDelay } of outcomes) if (tellsDelay) noteDelayTold(db, result.item.id);
    addSteps(db, first.journeyId, first.senderDomain, done);
    for (const step of troubles) addEntry(db, { journeyId: first.journeyId, domain: first.senderDomain, ...step });
    addSteps(db, first.journeyId, first.senderDomain, steps);
    if (!outlet || !reservation || taken === 0) return null;
    const at = limits.now();
    return { at, seq: chargeOutlet(db, outlet.id, amounts, { at, journeyId: first.journeyId }), amounts };
  };
  const charged = await db.commit(write, { withinMs: WRITTEN_WITHIN_MS, isRepeatable: true });
  if (reservation) {
    if (charged) limits.chargeReserved(reservation, charged);
    else limits.release(reservation);
  }
  for (const { state } of outcomes) metrics.recipients.inc({ state });
  signals.emit('attempted', first.journeyId);
  // What is given up here says nothing of how the sender's addresses are: the brake counts what other servers say.
  const ended = outcomes.filter(
    ({ state, result }) => (state === 'relayed' || state === 'failed') && result.kind !== 'given-up' && result.item.kind === 'submitted',
  );
  if (ended.length > 0)
    signals.emit('ended', {
      domain: first.senderDomain,
      mailbox: first.mailbox,
      failed: ended.filter((one) => one.state === 'failed').length,
      ended: ended.length,
    });
  return outcomes.some((one) => one.nextAttemptAt !== null);
}

/**
 * Ends recipients without another attempt: dropped by hand, or after waiting too long. They end as those that a server refused: the report first, as
 * NOTIFY asks (RFC 3461 §4.1), then outcome, journal, metric and signals.
 */
export async function giveUp(
  context: DeliveryDeps,
  items: readonly QueueItem[],
  { status, text }: { status: string; text: string },
  dropped: string | null = null,
): Promise<void> {
  const byJourney = new Map<string, QueueItem[]>();
  for (const item of items) byJourney.set(item.journeyId, [...(byJourney.get(item.journeyId) ?? []), item]);
  for (const group of byJourney.values()) {
    const perRecipient = group.map((item) => recipientResult(item, 'given-up', status, text));
    await writeOutcome(context, nothingSent(perRecipient, { dropped }), context.random);
  }
}

/** When to try again, by the steady clock. */
function nextTry(
  { item, kind, until }: RecipientResult,
  clock: DeliveryDeps['clock'],
  random: () => number,
): ReturnType<typeof nextAttempt> {
  const now = clock.steady();
  const isHanded = item.senderDomain === item.domain && item.kind === 'received';
  const next = nextAttempt(item.attempts + 1, item.acceptedAt, now, random(), isHanded);
  if (next.kind !== 'again') return next;
  if (kind === 'wait') return { kind: 'again', at: Math.max(next.at, until === null ? now + NO_OUTLET_MS : toSteady(clock, until)) };
  // The sender is told of a delay when it is one, not when the next try happens to come after that.
  const told = item.acceptedAt + TELL_DELAY_AFTER_MS;
  return !item.isDelayTold && now < told && next.at > told ? { kind: 'again', at: told } : next;
}

/** Tells the sender of final failures, of a long delay once, and of success that no later server will tell of (RFC 3461 §5.2.2). */
async function report(context: DeliveryDeps, first: QueueItem, outcomes: Outcome[], now: number): Promise<JourneyStep[]> {
  const said = ({ item, text, spoken }: RecipientResult, status: string): Reported => ({
    recipient: item.address,
    original: item.original,
    status,
    text,
    host: spoken.host?.name ?? null,
  });
  const failed = outcomes.filter(({ state, result }) => state === 'failed' && wantsWord(result.item.notify, 'FAILURE'));
  const relayed = outcomes.filter(
    ({ state, result }) => state === 'relayed' && !result.spoken.dsn && wantsWord(result.item.notify, 'SUCCESS'),
  );
  const late = outcomes.filter(
    ({ state, result: { item } }) =>
      (state === 'delayed' || state === 'queued') &&
      !item.isDelayTold &&
      now - item.acceptedAt >= TELL_DELAY_AFTER_MS &&
      wantsWord(item.notify, 'DELAY'),
  );
  if (failed.length + relayed.length + late.length === 0) return [];
  for (const one of late) one.tellsDelay = true;
  const about: ReportSubject = { content: () => context.texts.read(first.file, first.size), ...first };
  const steps = [
    // A delay that lasted too long has failed for good.
    await reportDelivery(
      context,
      'failed',
      about,
      failed.map(({ result }) => said(result, result.status.replace(/^4/, '5'))),
    ),
    await reportDelivery(
      context,
      'delayed',
      about,
      late.map(({ result }) => said(result, result.status)),
    ),
    await reportDelivery(
      context,
      'relayed',
      about,
      relayed.map(({ result }) => said(result, '2.0.0')),
    ),
  ];
  return steps.filter((step) => step !== null);
}
