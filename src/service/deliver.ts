import type { EventName } from '../core/journal/events.ts';
import type { MxValue } from '../core/records/answers.ts';
import { Pace } from '../core/retry/pace.ts';
import { nextAttempt } from '../core/retry/schedule.ts';
import type { Envelope, RecipientOutcome } from '../core/smtp/client-session.ts';
import { addEntry, addSteps, type RecipientState, type Step } from '../store/journeys.ts';
import { chargeOutlet, noteOutcome } from '../store/ledger.ts';
import type { Outlet } from '../store/outlets.ts';
import { changeRecipient, listDue, nextDue, noteDelayTold, type QueueItem, stillDue } from '../store/queue.ts';
import type { ServiceContext } from './context.ts';
import type { Reservation } from './limits.ts';
import { type OutgoingText, outgoingText } from './outgoing-text.ts';
import { type Reported, type ReportSubject, reportDelivery, wantsWord } from './report-delivery.ts';
import { wayOut } from './ways-out.ts';

/** Where a connection goes, and how. */
export interface RemoteHost {
  name: string;
  address: string;
  port: number;
  tls: 'none' | 'offered' | 'required' | 'implicit';
  /** Whether the certificate must name the host. */
  verify: boolean;
  credentials: { user: string; password: string } | null;
  sourceIpv4: string | null;
  sourceIpv6: string | null;
}

export type AttemptResult =
  /** `tls` in words, such as TLSv1.3; `dsn` when the other side reports deliveries itself. */
  | { kind: 'done'; outcomes: RecipientOutcome[]; tls: string | null; dsn: boolean }
  | { kind: 'unreachable'; reason: string; code: number | null };

/** The way out to another server; net provides it. */
export type SendMail = (host: RemoteHost, envelope: Envelope) => Promise<AttemptResult>;

/** A dozen servers that leave eight connections each hanging must not stop the rest. */
const AT_ONCE = 100;
const AT_ONCE_PER_DOMAIN = 8;
const MOST_PER_MESSAGE = 100;
/** So many messages of a domain are signed ahead of their turn, when they are not larger than that. */
const SIGNED_AHEAD = 32;
const MOST_SIGNED_AHEAD = 64 * 1024;
/** Due recipients of one domain that are kept at hand; with more, the others wait in the database and never push other domains aside. */
const MOST_AT_HAND = 400;
const REFILL = 500;
const LONGEST_SLEEP_MS = 60_000;
/** From then on the sender is told once that a message is delayed (RFC 3461 §4.1). */
const TELL_DELAY_AFTER_MS = 4 * 3_600_000;
/** Outcomes wait so long for others to share a transaction with: nobody waits for them. */
const WRITTEN_WITHIN_MS = 20;

/** What one attempt came to for one recipient. */
interface Verdict {
  item: QueueItem;
  /** `wait`: nothing was tried, because an outlet has nothing left. */
  kind: 'relayed' | 'later' | 'never' | 'wait';
  status: string;
  text: string;
  host: RemoteHost | null;
  tls: string | null;
  dsn: boolean;
  until: number | null;
}

interface Result extends Verdict {
  state: RecipientState;
  attempts: number;
  nextAttemptAt: number | null;
  /** Whether the sender is told now that it is delayed. */
  tellsDelay: boolean;
}

interface Attempt {
  verdicts: Verdict[];
  signed: OutgoingText['signed'];
  how: 'good' | 'busy' | 'away';
  outlet: Outlet | null;
  reservation: Reservation | null;
}

/** Carries the queue outward: due recipients, grouped by message and domain, some at a time. */
export class Deliverer {
  /** Due recipients that were read and wait for their turn, by domain. */
  private readonly atHand = new Map<string, QueueItem[]>();
  /** At hand, or under way. */
  private readonly known = new Set<number>();
  /** Domains with more due recipients in the database than are at hand. */
  private readonly overflowing = new Set<string>();
  private readonly perDomain = new Map<string, number>();
  /** Domains whose server took the latest message, while there is more for them. */
  private readonly flowing = new Set<string>();
  /** The texts of waiting items that were signed ahead. */
  private readonly ahead = new WeakMap<QueueItem, Promise<OutgoingText>>();
  private readonly paces = new Map<string, Pace>();
  /** Conversations under way. */
  private talking = 0;
  /** Attempts that are not written down yet. */
  private running = 0;
  private timer: NodeJS.Timeout | null = null;
  private stopped = false;
  private scheduled = false;
  /** Whether the database may hold due recipients that were not read yet. */
  private unread = true;
  /** The last one of those that were read, while there may be more. */
  private readTo: QueueItem | null = null;
  /** When the next recipient becomes due; null when that must be looked up. */
  private nextAt: number | null = null;
  private idleWaiters: (() => void)[] = [];

  constructor(
    private readonly context: ServiceContext,
    private readonly random: () => number,
  ) {
    context.signals.on('mail', (items) => {
      if (items === null) this.readAgain();
      else this.keepAtHand(items);
      this.wake();
    });
    context.signals.on('destination', (domain) => this.paces.get(domain)?.wake());
    // What is held or dropped must not be tried; what was read of the queue is read again.
    context.signals.on('queue-changed', () => {
      for (const items of this.atHand.values()) for (const item of items) this.known.delete(item.id);
      this.atHand.clear();
      this.overflowing.clear();
      this.readAgain();
      this.wake();
    });
  }

  /** Looks for due mail now. */
  wake(): void {
    if (this.stopped || this.scheduled) return;
    this.scheduled = true;
    setImmediate(() => {
      this.scheduled = false;
      this.dispatch();
    });
  }

  /** Begins nothing new; resolves when what is under way is written down. */
  async stop(): Promise<void> {
    this.stopped = true;
    if (this.timer) clearTimeout(this.timer);
    if (this.running > 0) await new Promise<void>((resolve) => this.idleWaiters.push(resolve));
  }

  private readAgain(): void {
    this.unread = true;
    this.readTo = null;
    this.nextAt = null;
  }

  private keepAtHand(items: readonly QueueItem[]): void {
    for (const item of items) {
      if (this.known.has(item.id)) continue;
      const waiting = this.atHand.get(item.domain) ?? [];
      if (waiting.length >= MOST_AT_HAND) {
        this.overflowing.add(item.domain);
        continue;
      }
      waiting.push(item);
      this.atHand.set(item.domain, waiting);
      this.known.add(item.id);
    }
  }

  private paceOf(domain: string): Pace {
    const pace = this.paces.get(domain) ?? new Pace(AT_ONCE_PER_DOMAIN);
    this.paces.set(domain, pace);
    return pace;
  }

  private dispatch(): void {
    if (this.stopped) return;
    if (this.timer) clearTimeout(this.timer);
    const { db, clock } = this.context;
    const now = clock.now();
    if (this.unread) {
      const due = listDue(db, now, this.readTo, [...this.overflowing], REFILL);
      this.readTo = due.length === REFILL ? (due.at(-1) ?? null) : null;
      this.unread = this.readTo !== null;
      this.keepAtHand(due);
    }
    if (this.nextAt === null || this.nextAt <= now) this.nextAt = nextDue(db, now) ?? Number.POSITIVE_INFINITY;
    let next = this.nextAt;
    for (const [domain, waiting] of this.atHand) {
      const pace = this.paceOf(domain);
      while (waiting.length > 0 && this.talking < AT_ONCE && pace.mayBegin(this.perDomain.get(domain) ?? 0, now))
        void this.begin(domain, nextGroup(waiting));
      if (waiting.length < 2 * SIGNED_AHEAD && this.overflowing.delete(domain)) this.readAgain();
      if (waiting.length > 0) {
        const rest = pace.restsUntil(now);
        if (rest > 0) next = Math.min(next, rest);
        else if (this.flowing.has(domain)) this.signAhead(waiting);
        continue;
      }
      this.atHand.delete(domain);
    }
    if (this.unread) return this.wake();
    if (next === Number.POSITIVE_INFINITY) return;
    this.timer = setTimeout(
      () => {
        this.readAgain();
        this.dispatch();
      },
      Math.min(LONGEST_SLEEP_MS, Math.max(20, next - clock.now())),
    );
    this.timer.unref();
  }

  /** Those that go next are signed while others are under way, so that no connection waits for a key. */
  private signAhead(waiting: readonly QueueItem[]): void {
    for (const item of waiting.slice(0, SIGNED_AHEAD)) {
      if (this.ahead.has(item) || item.size > MOST_SIGNED_AHEAD) continue;
      const text = outgoingText(this.context, item);
      // What fails is told when its turn comes.
      text.catch(() => {});
      this.ahead.set(item, text);
    }
  }

  private async begin(domain: string, group: QueueItem[]): Promise<void> {
    this.running += 1;
    this.talking += 1;
    this.perDomain.set(domain, (this.perDomain.get(domain) ?? 0) + 1);
    try {
      // The next conversation need not wait until this one is written down.
      const attempt = await this.tried(domain, group).finally(() => this.leave(domain));
      if (attempt) await this.conclude(attempt);
    } catch (error) {
      this.context.log.error(
        { journey: group[0]?.journeyId, fault: String((error as Error)?.stack ?? error) },
        'delivery attempt failed by a fault',
      );
      const verdicts = group.map((item) => verdict(item, 'later', '4.3.0', 'an internal fault; see the log'));
      await this.conclude({ verdicts, signed: null, how: 'busy', outlet: null, reservation: null }).catch(() => {});
    } finally {
      for (const item of group) this.known.delete(item.id);
      this.running -= 1;
      if (this.stopped && this.running === 0) for (const tell of this.idleWaiters) tell();
      this.wake();
    }
  }

  private async tried(domain: string, group: QueueItem[]): Promise<Attempt | null> {
    // Somebody may have held or dropped it since it was read.
    const due = group.filter((item) => stillDue(this.context.db, item.id));
    if (due.length === 0) return null;
    const attempt = await this.attempt(due);
    this.paceOf(domain).went(attempt.how, this.context.clock.now());
    if (attempt.verdicts.some((one) => one.kind === 'relayed')) this.flowing.add(domain);
    else this.flowing.delete(domain);
    return attempt;
  }

  private leave(domain: string): void {
    this.talking -= 1;
    const left = (this.perDomain.get(domain) ?? 1) - 1;
    if (left > 0) this.perDomain.set(domain, left);
    else {
      this.perDomain.delete(domain);
      this.flowing.delete(domain);
      if (this.paces.get(domain)?.isUsual) this.paces.delete(domain);
    }
    this.wake();
  }

  /** Tries the hosts of the way out in order until one takes a decision on the message. */
  private async attempt(group: QueueItem[]): Promise<Attempt> {
    const first = group[0] as QueueItem;
    const way = await wayOut(this.context, group, (values) => this.shuffled(values));
    const nowhere = (verdicts: Verdict[]): Attempt => ({ verdicts, signed: null, how: 'good', outlet: null, reservation: null });
    if (way.kind === 'wait') return nowhere(group.map((item) => ({ ...verdict(item, 'wait', '4.4.4', way.reason), until: way.until })));
    if (way.kind === 'later') return nowhere(group.map((item) => verdict(item, 'later', '4.4.3', way.reason)));
    if (way.kind === 'never') return nowhere(group.map((item) => verdict(item, 'never', way.status, way.reason)));
    const { outlet, reservation } = way;
    let result: AttemptResult = { kind: 'unreachable', reason: 'no host', code: null };
    let tried: RemoteHost | null = null;
    let signed: OutgoingText['signed'] = null;
    try {
      const text = await (this.ahead.get(first) ?? outgoingText(this.context, first));
      signed = text.signed;
      const envelope: Envelope = {
        sender: first.sendAs ?? first.sender,
        recipients: group.map(({ address, notify, original }) => ({ address, notify, original })),
        content: text.content,
        smtputf8: first.smtputf8 === 1,
        returnContent: first.returnContent,
        envelopeId: first.envelopeId,
      };
      for (const remote of way.hosts) {
        tried = remote;
        result = await this.context.send(remote, envelope);
        if (result.kind === 'done') break;
      }
    } catch (error) {
      if (reservation) this.context.limits.release(reservation);
      throw error;
    }
    if (result.kind === 'unreachable') {
      const { reason } = result;
      // RFC 7504: a host that says 521 or 554 at greeting takes no mail at all; still tried again, another host may come.
      const verdicts = group.map((item) => ({ ...verdict(item, 'later', '4.4.1', reason), host: tried }));
      return { verdicts, signed: null, how: 'away', outlet, reservation };
    }
    const { outcomes, tls, dsn } = result;
    const verdicts = group.map((item, at) => {
      const outcome = outcomes[at];
      const place = { host: tried, tls, dsn };
      if (!outcome) return { ...verdict(item, 'later', '4.5.0', 'the server said nothing about this recipient'), ...place };
      const text = `${outcome.reply.code} ${outcome.reply.text}`;
      const status = /^[245]\.\d{1,3}\.\d{1,3}/.exec(outcome.reply.text)?.[0] ?? `${Math.floor(outcome.reply.code / 100)}.0.0`;
      return { ...verdict(item, outcome.kind === 'taken' ? 'relayed' : outcome.kind, status, text), ...place };
    });
    const isOver = outcomes.some((one) => one.reply.code === 421);
    const how = isOver ? 'away' : outcomes.every((one) => one.kind === 'later') ? 'busy' : 'good';
    return { verdicts, signed, how, outlet, reservation };
  }

  private shuffled(values: MxValue[]): MxValue[] {
    return values
      .map((value) => ({ value, order: this.random() }))
      .sort((one, other) => one.order - other.order)
      .map(({ value }) => value);
  }

  /**
   * Writes down what became of each recipient. Reports go out first: should the service be killed in between,
   * the sender is told twice rather than never.
   */
  private async conclude({ verdicts, signed, outlet, reservation }: Attempt): Promise<void> {
    const { db, clock, metrics, signals, limits } = this.context;
    const first = verdicts[0]?.item as QueueItem;
    const now = clock.now();
    const results: Result[] = verdicts.map((one) => {
      const { item } = one;
      const isTried = one.kind !== 'wait';
      const next = one.kind === 'later' || one.kind === 'wait' ? this.next(one, now) : null;
      const failed = one.kind === 'never' || next?.kind === 'give-up';
      const state: RecipientState = one.kind === 'relayed' ? 'relayed' : failed ? 'failed' : isTried ? 'delayed' : item.state;
      return {
        ...one,
        state,
        attempts: item.attempts + (isTried ? 1 : 0),
        nextAttemptAt: next?.kind === 'again' ? next.at : null,
        tellsDelay: false,
      };
    });
    const steps = await this.report(first, results, now);
    const taken = results.filter((one) => one.state === 'relayed').length;
    const amounts = { messages: 1, sends: taken, bytes: first.size };
    const charged = await db.commit(() => {
      const done: Step[] = signed === null ? [] : [{ at: now, event: 'signed', data: signed }];
      // What is searched for by its reply has a row of its own.
      const troubles: Step[] = [];
      for (const { item, state, attempts, nextAttemptAt, text, host, tls, status, kind } of results) {
        changeRecipient(db, item.id, { state, attempts, nextAttemptAt, reply: text, at: now, wantsOutlet: kind === 'wait' });
        const where = { host: host?.name ?? null, address: host?.address ?? null, tls, outlet: outlet?.name ?? null };
        const more = { reply: text, status, attempt: attempts, ...(nextAttemptAt ? { nextAttemptAt } : {}) };
        // A recipient that was tried is never `queued` any more.
        const event: EventName = kind === 'wait' && state !== 'failed' ? 'waiting' : state === 'queued' ? 'waiting' : state;
        const data = { recipient: item.address, ...where, ...more };
        if (state === 'relayed') done.push({ at: now, event, data });
        else troubles.push({ at: now, event, data });
        if ((state === 'relayed' || state === 'failed') && item.senderDomain !== null && item.kind !== 'report')
          noteOutcome(db, { domain: item.senderDomain, mailbox: item.mailbox, at: now, state });
      }
      for (const { item } of results.filter((one) => one.tellsDelay)) noteDelayTold(db, item.id);
      addSteps(db, first.journeyId, first.senderDomain, done);
      for (const step of troubles) addEntry(db, { ...step, journeyId: first.journeyId, domain: first.senderDomain });
      addSteps(db, first.journeyId, first.senderDomain, steps);
      if (!outlet || !reservation || taken === 0) return null;
      const at = limits.now();
      return { at, seq: chargeOutlet(db, outlet.id, { ...amounts, at, journeyId: first.journeyId }), amounts };
    }, WRITTEN_WITHIN_MS);
    if (reservation) {
      if (charged) limits.settle(reservation, charged);
      else limits.release(reservation);
    }
    if (results.some((one) => one.nextAttemptAt !== null)) this.nextAt = null;
    for (const { state } of results) metrics.recipients.inc({ state });
    signals.emit('attempted', first.journeyId);
    const ended = results.filter((one) => (one.state === 'relayed' || one.state === 'failed') && one.item.kind === 'submitted');
    if (ended.length > 0)
      signals.emit('ended', {
        domain: first.senderDomain,
        mailbox: first.mailbox,
        failed: ended.filter((one) => one.state === 'failed').length,
        ended: ended.length,
      });
  }

  private next({ item, kind, until }: Verdict, now: number): ReturnType<typeof nextAttempt> {
    const isHanded = item.senderDomain === item.domain && item.kind === 'received';
    const next = nextAttempt(item.attempts + 1, item.acceptedAt, now, this.random(), isHanded);
    return kind === 'wait' && next.kind === 'again' && until !== null ? { kind: 'again', at: Math.max(next.at, until) } : next;
  }

  /** Tells the sender of final failures, of a long delay once, and of success that no later server will tell of (RFC 3461 §5.2.2). */
  private async report(first: QueueItem, results: Result[], now: number): Promise<Step[]> {
    const said = (one: Verdict, status: string): Reported => ({
      recipient: one.item.address,
      original: one.item.original,
      status,
      text: one.text,
      host: one.host?.name ?? null,
    });
    const about: ReportSubject = { ...first, content: () => this.context.texts.read(first.file) };
    const failed = results.filter((one) => one.state === 'failed' && wantsWord(one.item.notify, 'FAILURE'));
    const relayed = results.filter((one) => one.state === 'relayed' && !one.dsn && wantsWord(one.item.notify, 'SUCCESS'));
    const late = results.filter(
      (one) =>
        (one.state === 'delayed' || one.state === 'queued') &&
        one.item.toldDelay === 0 &&
        now - one.item.acceptedAt >= TELL_DELAY_AFTER_MS &&
        wantsWord(one.item.notify, 'DELAY'),
    );
    for (const one of late) one.tellsDelay = true;
    const steps = [
      // A delay that lasted too long has failed for good.
      await reportDelivery(
        this.context,
        'failed',
        about,
        failed.map((one) => said(one, one.status.replace(/^4/, '5'))),
      ),
      await reportDelivery(
        this.context,
        'delayed',
        about,
        late.map((one) => said(one, one.status)),
      ),
      await reportDelivery(
        this.context,
        'relayed',
        about,
        relayed.map((one) => said(one, '2.0.0')),
      ),
    ];
    return steps.filter((step) => step !== null);
  }
}

const verdict = (item: QueueItem, kind: Verdict['kind'], status: string, text: string): Verdict => ({
  item,
  kind,
  status,
  text,
  host: null,
  tls: null,
  dsn: false,
  until: null,
});

/** Takes from the front the recipients that can share one transaction: those of one message, with one envelope sender. */
function nextGroup(waiting: QueueItem[]): QueueItem[] {
  const [first] = waiting;
  let length = 1;
  while (length < MOST_PER_MESSAGE && length < waiting.length) {
    const one = waiting[length];
    if (one?.journeyId !== first?.journeyId || one?.sendAs !== first?.sendAs) break;
    length += 1;
  }
  return waiting.splice(0, length);
}
