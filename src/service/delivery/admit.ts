import { amountsOf } from '../../core/limits/amounts.ts';
import { scopeKey } from '../../core/limits/scope-key.ts';
import { addEntry } from '../../store/journeys.ts';
import { charge, type Payer } from '../../store/ledger.ts';
import { scopeName } from '../../store/limits.ts';
import { accountsWaiting, admit, isCharged, type QueueItem, waitFor, waitingForRoom } from '../../store/queue.ts';
import { limitText } from '../../texts/en/limits.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { scopesOf } from '../limits/payer-ids.ts';
import type { Reservation } from '../limits/reservation.ts';
import type { DeliveryDeps } from './deps.ts';
import { giveUp } from './write-outcome.ts';

const HOUR = 3_600_000;
const AT_ONCE = 100;
const LONGEST_SLEEP_MS = 30_000;

/** Lets recipients go that wait for room under a limit, the oldest first, as soon as there is some; and gives up on those that waited too long. */
export class Admission {
  private readonly loop: BackgroundLoop;

  constructor(context: DeliveryDeps) {
    const { clock, log, signals } = context;
    this.loop = new BackgroundLoop({
      log,
      failed: 'waiting mail could not be checked',
      everyMs: LONGEST_SLEEP_MS,
      turn: async () => {
        const next = await admitWaiting(context);
        return next === null ? null : Math.max(250, Math.min(LONGEST_SLEEP_MS, next - clock.steady()));
      },
    });
    signals.on('room', () => this.loop.wake());
    signals.on('mail', () => this.loop.wakeWithin(LONGEST_SLEEP_MS));
  }

  start(): void {
    this.loop.start();
  }

  stop(): Promise<void> {
    return this.loop.stop();
  }
}

/**
 * One look at all who wait; returns when the next look is worth it, by the steady clock, null when nobody waits. Each account has its turn: one that is
 * full, however many wait under it, keeps nobody waiting who pays by another. Within an account who came first goes first.
 */
export async function admitWaiting(context: DeliveryDeps): Promise<number | null> {
  const { clock, db } = context;
  // Who came later does not overtake: once an account is full, the rest of those who pay by it wait.
  const full = new Set<string>();
  let next: number | null = null;
  const look = (at: number): void => {
    next = Math.min(next ?? Number.POSITIVE_INFINITY, at);
  };
  for (const account of accountsWaiting(db)) {
    for (let last: QueueItem | null = null; ; ) {
      const waiting: QueueItem[] = waitingForRoom(db, account, last, AT_ONCE);
      let isFull = false;
      for (const item of waiting) {
        look(clock.steady() + LONGEST_SLEEP_MS);
        const roomAt = await tryToAdmit(context, item, full);
        if (roomAt !== null && Number.isFinite(roomAt)) look(Math.ceil(roomAt / 1000) * 1000);
        isFull ||= full.has(account);
        // Those behind it wait as well, but for those who have waited too long: they are the oldest, and have been seen.
        if (isFull) break;
      }
      if (isFull || waiting.length < AT_ONCE) break;
      last = waiting.at(-1) ?? null;
      await new Promise((resolve) => setImmediate(resolve));
    }
  }
  return next;
}

/** Lets one recipient go, or gives up on it. Returns null when it waits no more, else when there may be room, infinite for no time in sight. */
async function tryToAdmit(context: DeliveryDeps, item: QueueItem, full: Set<string>): Promise<number | null> {
  const { clock, limits, db } = context;
  const { payer } = item;
  if (!payer) return Number.POSITIVE_INFINITY;
  const scopes = scopesOf(payer);
  const kept = scopes.find((scope) => scopeKey(scope) === item.fullScope) ?? scopes[0];
  if (kept && clock.steady() - (item.heldAt ?? item.acceptedAt) > limits.choice(kept).choice.holdHours * HOUR) {
    await giveUpWaiting(context, item);
    return null;
  }
  if (scopes.some((scope) => full.has(scopeKey(scope)))) return Number.POSITIVE_INFINITY;
  const isFirst = !isCharged(db, item.journeyId);
  const asked = amountsOf({ sends: 1, bytes: item.size, isFirst });
  const decision = limits.reserve(payer, asked);
  if (decision.kind === 'room') {
    await letGo(context, item, payer, decision);
    return null;
  }
  const account = scopeKey(decision.scope);
  full.add(account);
  if (account !== item.fullScope) await db.commit(() => waitFor(db, item.id, account));
  return decision.roomAt ?? Number.POSITIVE_INFINITY;
}

async function letGo(context: DeliveryDeps, item: QueueItem, payer: Payer, reservation: Reservation): Promise<void> {
  const { db, clock, limits, signals } = context;
  const { amounts } = reservation;
  try {
    const charged = await db.commit(() => {
      const at = limits.now();
      admit(db, item.id, clock.steady());
      const seq = charge(db, payer, amounts, { at, journeyId: item.journeyId });
      const data = { recipient: item.address, to: payer.mailbox ?? payer.domain, left: limits.left(payer, amounts), ...amounts };
      addEntry(db, { at: clock.now(), journeyId: item.journeyId, domain: item.senderDomain, event: 'admitted', data });
      return { at, seq, amounts };
    });
    limits.chargeReserved(reservation, charged);
  } catch (error) {
    limits.release(reservation);
    throw error;
  }
  signals.emit('mail', null);
}

async function giveUpWaiting(context: DeliveryDeps, item: QueueItem): Promise<void> {
  const { db, limits } = context;
  const { payer } = item;
  const scope = payer ? scopesOf(payer).find((one) => scopeKey(one) === item.fullScope) : undefined;
  const limit = scope ? limits.effective(scope).find((one) => one.amount !== null) : undefined;
  const words = limit?.amount ? ` of ${limitText({ ...limit, amount: limit.amount })}` : '';
  const text = `It waited too long for room under the limit${words} of ${(scope && scopeName(db, scope)) || 'its sender'}`;
  await giveUp(context, [item], { status: '5.7.28', text });
}
