import { parseDomain } from '../../core/address/domain.ts';
import type { Place } from '../../core/cursor.ts';
import type { EventName } from '../../core/journal/events.ts';
import type { Held } from '../../core/vocabulary.ts';
import { addEntry, findJourney } from '../../store/journeys.ts';
import * as store from '../../store/queue.ts';
import { badInput, Problem } from '../base/problem.ts';
import { toWall } from '../base/service-clock.ts';
import type { DeliveryDeps } from './deps.ts';
import { giveUp } from './write-outcome.ts';

/** Which waiting recipients are meant, as people say it. */
export interface QueueSelection {
  ids?: readonly string[] | undefined;
  /** The domain here whose mail it is. */
  domain?: string | undefined;
  destination?: string | undefined;
  sender?: string | undefined;
  /** Waiting for at least so many minutes. */
  olderThanMinutes?: number | undefined;
  held?: Held | 'any' | 'none' | undefined;
}

function filterOf({ clock }: DeliveryDeps, selection: QueueSelection): store.QueueFilter {
  const name = (text: string | undefined, field: string): string | null => {
    if (text === undefined) return null;
    const parsed = parseDomain(text);
    if (parsed.kind === 'invalid')
      throw badInput(field, `“${text.slice(0, 80)}” is not a domain name: ${parsed.reason}.`, 'Write it like shop.example.');
    return parsed.ascii;
  };
  return {
    ids: selection.ids ?? null,
    domain: name(selection.domain, 'domain'),
    destination: name(selection.destination, 'destination'),
    sender: selection.sender ?? null,
    acceptedBefore: selection.olderThanMinutes === undefined ? null : clock.now() - selection.olderThanMinutes * 60_000,
    held: selection.held ?? null,
  };
}

const MOST_LISTED = 500;
const DROPPED_AT_ONCE = 100;

export type QueueRow = Omit<
  store.QueueItem,
  'file' | 'payer' | 'fullScope' | 'envelopeId' | 'returnContent' | 'isVouched' | 'isDisowned' | 'homeDomainId' | 'homeMailboxId'
>;
const shown = (
  clock: DeliveryDeps['clock'],
  {
    file: _file,
    payer: _payer,
    fullScope: _account,
    envelopeId: _id,
    returnContent: _ret,
    isVouched: _vouched,
    isDisowned: _disowned,
    homeDomainId: _domain,
    homeMailboxId: _mailbox,
    ...row
  }: store.QueueItem,
): QueueRow => ({ ...row, nextAttemptAt: toWall(clock, row.nextAttemptAt), heldAt: toWall(clock, row.heldAt) });

export interface QueueView {
  recipients: number;
  messages: number;
  rows: QueueRow[];
  next: Place | null;
}

export async function listQueue(context: DeliveryDeps, selection: QueueSelection, part: Partial<store.QueuePart> = {}): Promise<QueueView> {
  const filter = filterOf(context, selection);
  const [counted, page] = await Promise.all([
    store.countMatching(context.db, filter),
    store.listQueue(context.db, filter, { sort: 'next', reverse: false, offset: 0, limit: MOST_LISTED, ...part }),
  ]);
  return { ...counted, ...page, rows: page.rows.map((row) => shown(context.clock, row)) };
}

export async function queueDestinations(
  { db, clock }: DeliveryDeps,
  { limit, offset }: { limit: number; offset: number },
): Promise<{ total: number; rows: store.QueueDestination[] }> {
  const [total, rows] = await Promise.all([store.countDestinations(db), store.queueByDestination(db, limit, offset)]);
  return { total, rows: rows.map((one) => ({ ...one, nextAttemptAt: toWall(clock, one.nextAttemptAt) })) };
}

export type QueueAct = 'retry' | 'hold' | 'release' | 'drop';
const DONE = { retry: 'hurried', hold: 'held-by-hand', release: 'released' } as const satisfies Partial<Record<QueueAct, EventName>>;

/**
 * Does something to all matching recipients. With `expected`, only when exactly so many match: what was counted is what is done.
 * Returns how many were changed.
 */
export async function actOnQueue(
  context: DeliveryDeps,
  act: QueueAct,
  selection: QueueSelection,
  expected: number | null,
  reason: string,
): Promise<{ recipients: number }> {
  const { db, clock, signals } = context;
  const filter = filterOf(context, selection);
  if (Object.values(filter).every((value) => value === null))
    throw badInput('selection', 'No mail was selected.', 'Give ids, a domain, a destination, a sender or an age.');
  const now = clock.now();
  const matching = await store.listMatching(db, filter);
  const count = matching.length;
  if (expected !== null && expected !== count)
    throw new Problem('in-use', `${count} recipients match now, not ${expected}.`, 'Check the selection, and repeat the command.');
  if (count === 0) throw nothingWaits(context, filter);
  const ids = (rows: readonly store.Matching[]): number[] => rows.map((row) => row.id);
  if (act === 'drop') return { recipients: await dropIds(context, ids(matching), reason || 'dropped by the provider') };
  const told = new Set<string>();
  const recipients = await db.commitInPieces(matching, (rows) => {
    const changed =
      act === 'retry'
        ? store.hurry(db, ids(rows), clock.steady())
        : act === 'hold'
          ? store.hold(db, ids(rows), 'hand', clock.steady())
          : store.release(db, ids(rows), null, clock.steady());
    if (changed === 0) return 0;
    for (const { journeyId, senderDomain } of rows) {
      if (told.has(journeyId)) continue;
      told.add(journeyId);
      addEntry(db, { at: now, journeyId, domain: senderDomain, event: DONE[act], data: { recipients: count, reason } });
    }
    return changed;
  });
  if (recipients === 0) throw unchanged(act);
  if (act === 'retry') for (const domain of new Set(matching.map((row) => row.domain))) signals.emit('destination', domain);
  signals.emit('queue-changed');
  return { recipients };
}

function nothingWaits({ db }: DeliveryDeps, { ids }: store.QueueFilter): Problem {
  const id = ids?.[0];
  if (id !== undefined && !findJourney(db, id))
    return new Problem('not-found', `There is no journey “${id.slice(0, 40)}”.`, 'See what waits: tenedor queue list').about(id);
  if (id !== undefined)
    return new Problem('in-use', `No recipients of journey ${id} are waiting.`, `See its delivery: tenedor journey ${id}`);
  return new Problem('in-use', 'No waiting messages match.', 'See what waits: tenedor queue list');
}

function unchanged(act: QueueAct): Problem {
  if (act === 'retry')
    return new Problem('in-use', 'Everything that matches is held, and held mail is not tried.', 'Release it first: tenedor queue release');
  if (act === 'hold') return new Problem('in-use', 'Everything that matches is already held.', 'Release it with: tenedor queue release');
  return new Problem(
    'in-use',
    'Nothing that matches is held, except for mail that waits for room under a limit.',
    'Mail that waits for room is sent automatically. To send it now: tenedor limit raise',
  );
}

/** Gives up on recipients by hand; their senders are told. What is being handed over at this moment is left to its server. */
export async function dropIds(context: DeliveryDeps, ids: readonly number[], reason: string): Promise<number> {
  const { db, signals, handingOver } = context;
  let dropped = 0;
  for (let at = 0; at < ids.length; at += DROPPED_AT_ONCE) {
    const items = ids.slice(at, at + DROPPED_AT_ONCE).flatMap((id) => {
      const item = handingOver.has(id) ? undefined : store.findItem(db, id);
      return item && item.nextAttemptAt !== null ? [item] : [];
    });
    for (const { id } of items) handingOver.add(id);
    try {
      await giveUp(context, items, { status: '5.0.0', text: `Given up: ${reason}` }, reason);
      dropped += items.length;
    } finally {
      for (const { id } of items) handingOver.delete(id);
    }
  }
  if (dropped > 0) signals.emit('queue-changed');
  return dropped;
}
