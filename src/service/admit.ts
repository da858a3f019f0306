import { addEntry } from '../store/journeys.ts';
import { charge, type Payer } from '../store/ledger.ts';
import { scopeName } from '../store/limits.ts';
import { admit, changeRecipient, isCharged, type QueueItem, waitFor, waitingForRoom } from '../store/queue.ts';
import type { ServiceContext } from './context.ts';
import { limitWords } from './limit-words.ts';
import { type Reservation, scopesOf } from './limits.ts';
import { faultText } from './problem.ts';
import { reportDelivery, wantsWord } from './report-delivery.ts';

const HOUR = 3_600_000;
const AT_ONCE = 500;
const LONGEST_SLEEP_MS = 30_000;

/** Lets recipients go that wait for room under a limit, the oldest first, as soon as there is some; and gives up on those that waited too long. */
export class Admission {
  private timer: NodeJS.Timeout | null = null;
  private running: Promise<void> | null = null;
  private again = false;
  private stopped = false;

  constructor(private readonly context: ServiceContext) {
    context.signals.on('room', () => this.look());
    context.signals.on('mail', () => {
      if (!this.timer) this.schedule(LONGEST_SLEEP_MS);
    });
  }

  /** Looks now whether somebody can go. */
  look(): void {
    if (this.stopped) return;
    if (this.running !== null) {
      this.again = true;
      return;
    }
    if (this.timer) clearTimeout(this.timer);
    this.timer = null;
    this.running = admitWaiting(this.context)
      .then((next) => {
        if (next !== null) this.schedule(Math.max(250, Math.min(LONGEST_SLEEP_MS, next - this.context.clock.steady())));
      })
      .catch((error) => this.context.log.error({ fault: faultText(error) }, 'waiting mail could not be looked at'))
      .finally(() => {
        this.running = null;
        if (!this.again) return;
        this.again = false;
        this.look();
      });
  }

  async stop(): Promise<void> {
    this.stopped = true;
    if (this.timer) clearTimeout(this.timer);
    await this.running;
  }

  private schedule(ms: number): void {
    if (this.stopped) return;
    this.timer = setTimeout(() => {
      this.timer = null;
      this.look();
    }, ms);
    this.timer.unref();
  }
}

/** One look at all who wait; returns when the next look is worth it, null when nobody waits. */
export async function admitWaiting(context: ServiceContext): Promise<number | null> {
  const { clock, limits, db } = context;
  const waiting = waitingForRoom(db, AT_ONCE);
  // Who came later does not overtake: once an account is full, the rest of those who pay by it wait.
  const full = new Set<string>();
  let next: number | null = null;
  for (const item of waiting) {
    const payer = item.payer === null ? null : (JSON.parse(item.payer) as Payer);
    if (!payer) continue;
    const scopes = scopesOf(payer);
    const kept = scopes.find((scope) => `${scope.kind} ${scope.id}` === item.holdAccount) ?? scopes[0];
    if (kept && clock.steady() - (item.heldAt ?? item.acceptedAt) > limits.choice(kept).choice.holdHours * HOUR) {
      await giveUp(context, item);
      continue;
    }
    next ??= clock.steady() + LONGEST_SLEEP_MS;
    if (scopes.some((scope) => full.has(`${scope.kind} ${scope.id}`))) continue;
    const isFirst = !isCharged(db, item.journeyId);
    const asked = { messages: isFirst ? 1 : 0, sends: 1, bytes: isFirst ? item.size : 0 };
    const decision = limits.reserve(payer, asked);
    if (decision.kind === 'room') {
      await letGo(context, item, payer, decision);
      continue;
    }
    const account = `${decision.scope.kind} ${decision.scope.id}`;
    full.add(account);
    if (account !== item.holdAccount) await db.commit(() => waitFor(db, item.id, account));
    if (decision.roomAt !== null) next = Math.min(next, Math.ceil(decision.roomAt / 1000) * 1000);
  }
  return next;
}

async function letGo(context: ServiceContext, item: QueueItem, payer: Payer, reservation: Reservation): Promise<void> {
  const { db, clock, limits, signals } = context;
  const { amounts } = reservation;
  try {
    const charged = await db.commit(() => {
      const at = limits.now();
      admit(db, item.id, clock.steady());
      const seq = charge(db, { ...payer, ...amounts, at, journeyId: item.journeyId });
      const data = { recipient: item.address, ...amounts, to: payer.mailbox ?? payer.domain, left: limits.left(payer, amounts) };
      addEntry(db, { at: clock.now(), journeyId: item.journeyId, domain: item.senderDomain, event: 'admitted', data });
      return { at, seq, amounts };
    });
    limits.settle(reservation, charged);
  } catch (error) {
    limits.release(reservation);
    throw error;
  }
  signals.emit('mail', null);
}

async function giveUp(context: ServiceContext, item: QueueItem): Promise<void> {
  const { db, clock, limits } = context;
  const payer = item.payer === null ? null : (JSON.parse(item.payer) as Payer);
  const scope = payer ? scopesOf(payer).find((one) => `${one.kind} ${one.id}` === item.holdAccount) : undefined;
  const limit = scope ? limits.effective(scope).find((one) => one.amount !== null) : undefined;
  const words = limit?.amount ? ` of ${limitWords({ ...limit, amount: limit.amount })}` : '';
  const text = `It waited too long for room under the limit${words} of ${(scope && scopeName(db, scope)) || 'its sender'}`;
  const said = { recipient: item.address, original: item.original, status: '5.7.28', text, host: null };
  const step = wantsWord(item.notify, 'FAILURE')
    ? await reportDelivery(context, 'failed', { ...item, content: () => context.texts.read(item.file, item.size) }, [said])
    : null;
  await db.commit(() => {
    const now = clock.now();
    changeRecipient(db, item.id, { state: 'failed', attempts: item.attempts, nextAttemptAt: null, reply: text, at: now });
    const entry = { at: now, journeyId: item.journeyId, domain: item.senderDomain };
    addEntry(db, { ...entry, event: 'failed', data: { recipient: item.address, reply: text, status: '5.7.28', host: null } });
    if (step) addEntry(db, { ...entry, ...step });
  });
}
