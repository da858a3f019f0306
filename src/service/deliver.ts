import type { MxValue } from '../core/records/answers.ts';
import { Pace } from '../core/retry/pace.ts';
import type { Envelope, RecipientOutcome } from '../core/smtp/client-session.ts';
import { TextLost } from '../store/message-files.ts';
import { isNoSpace } from '../store/no-space.ts';
import { hold, listDue, nextDue, type QueueItem, stillDue } from '../store/queue.ts';
import type { ServiceContext } from './context.ts';
import { noteLost } from './lost-texts.ts';
import { type OutgoingText, outgoingText } from './outgoing-text.ts';
import { faultText } from './problem.ts';
import { stopOfSender } from './stopping.ts';
import { wayOut } from './ways-out.ts';
import { type Attempt, type Verdict, verdict, writeOutcome } from './write-outcome.ts';

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
  /** `tls` in words, such as TLSv1.3; `dsn` when the other side reports deliveries itself; `note` when something was unlike what was wanted. */
  | { kind: 'done'; outcomes: RecipientOutcome[]; tls: string | null; dsn: boolean; note?: string }
  | { kind: 'unreachable'; reason: string; code: number | null };

/** The way out to another server; net provides it. */
export type SendMail = (host: RemoteHost, envelope: Envelope) => Promise<AttemptResult>;

/** Conversations that get on. */
const AT_ONCE = 100;
const AT_ONCE_PER_DOMAIN = 8;
/** To one server, whatever the domains that it has: a few until it has taken something, then more with each message. */
const AT_ONCE_PER_HOST = 40;
const FIRST_PER_HOST = 8;
/** A conversation that takes longer gives its place to another one: a server that lets us hang costs a socket, and nobody's turn. */
const HANGS_AFTER_MS = 10_000;
const MOST_HANGING = 300;
/** What came of an attempt and can't be written down is tried again so often; until then nothing more is sent. */
const WRITE_AGAIN_MS = 1000;
const MOST_PER_MESSAGE = 100;
/** So many messages of a domain are signed ahead of their turn, when they are not larger than that. */
const SIGNED_AHEAD = 32;
const MOST_SIGNED_AHEAD = 64 * 1024;
/** Due recipients of one domain that are kept at hand; with more, the others wait in the database and never push other domains aside. */
const MOST_AT_HAND = 400;
const REFILL = 500;
const LONGEST_SLEEP_MS = 60_000;

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
  /** Servers by address and port: how they fare, and how many conversations they have. */
  private readonly hosts = new Map<string, { pace: Pace; open: number }>();
  /** The server that a domain's mail went to last. */
  private readonly hostOf = new Map<string, string>();
  /** Conversations that have hung for long. */
  private hanging = 0;
  /** Outcomes that can't be written down at the moment. */
  private unwritten = 0;
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
  /** How often outlets were changed. */
  private outletChanges = 0;
  private idleWaiters: (() => void)[] = [];

  constructor(
    private readonly context: ServiceContext,
    private readonly random: () => number,
    private readonly waits = { hangsAfterMs: HANGS_AFTER_MS, writeAgainMs: WRITE_AGAIN_MS },
  ) {
    context.signals.on('mail', (items) => {
      if (items === null) this.readAgain();
      else this.keepAtHand(items);
      this.wake();
    });
    context.signals.on('outlets', () => {
      this.outletChanges += 1;
    });
    context.signals.on('destination', (domain) => {
      this.paces.get(domain)?.wake();
      this.hosts.get(this.hostOf.get(domain) ?? '')?.pace.wake();
    });
    context.signals.on('realigned', () => {
      this.paces.clear();
      for (const { pace } of this.hosts.values()) pace.wake();
    });
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
      this.context.loop.during('looking for due mail', () => this.dispatch());
    });
  }

  /** Begins nothing new; resolves when what is under way is written down. */
  async stop(): Promise<void> {
    this.stopped = true;
    if (this.timer) clearTimeout(this.timer);
    // What can't be written down now never will be by this process.
    if (this.running > this.unwritten) await new Promise<void>((resolve) => this.idleWaiters.push(resolve));
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

  private serverOf(domain: string): { pace: Pace; open: number } | null {
    const name = this.hostOf.get(domain);
    return (name !== undefined && this.hosts.get(name)) || null;
  }

  private mayBegin(domain: string, now: number): boolean {
    if (this.talking >= AT_ONCE || this.unwritten > 0) return false;
    const server = this.serverOf(domain);
    return (
      this.paceOf(domain).mayBegin(this.perDomain.get(domain) ?? 0, now) && (server === null || server.pace.mayBegin(server.open, now))
    );
  }

  private dispatch(): void {
    if (this.stopped || this.unwritten > 0) return;
    if (this.timer) clearTimeout(this.timer);
    const { db, clock } = this.context;
    const now = clock.steady();
    if (this.unread) {
      const due = listDue(db, now, this.readTo, [...this.overflowing], REFILL);
      this.readTo = due.length === REFILL ? (due.at(-1) ?? null) : null;
      this.unread = this.readTo !== null;
      this.keepAtHand(due);
    }
    if (this.nextAt === null || this.nextAt <= now) this.nextAt = nextDue(db, now) ?? Number.POSITIVE_INFINITY;
    let next = this.nextAt;
    for (const [domain, waiting] of this.atHand) {
      while (waiting.length > 0 && this.mayBegin(domain, now))
        this.begin(domain, nextGroup(waiting)).catch((error: unknown) =>
          this.context.log.error({ fault: faultText(error) }, 'delivery ended by a fault'),
        );
      if (waiting.length < 2 * SIGNED_AHEAD && this.overflowing.delete(domain)) this.readAgain();
      if (waiting.length > 0) {
        const rest = Math.max(this.paceOf(domain).restsUntil(now), this.serverOf(domain)?.pace.restsUntil(now) ?? 0);
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
      Math.min(LONGEST_SLEEP_MS, Math.max(20, next - clock.steady())),
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
    let isHanging = false;
    const hangs = setTimeout(() => {
      if (this.hanging >= MOST_HANGING) return;
      isHanging = true;
      this.hanging += 1;
      this.talking -= 1;
      this.wake();
    }, this.waits.hangsAfterMs);
    let isPutBack = false;
    const taken: QueueItem[] = [];
    try {
      // The next conversation need not wait until this one is written down.
      const attempt = await this.tried(domain, group, taken).finally(() => {
        clearTimeout(hangs);
        if (isHanging) this.hanging -= 1;
        else this.talking -= 1;
        this.leave(domain);
      });
      isPutBack = attempt === 'no-place';
      if (attempt !== null && attempt !== 'no-place') await this.conclude(attempt);
    } catch (error) {
      this.context.log.error({ journey: group[0]?.journeyId, fault: faultText(error) }, 'delivery attempt failed by a fault');
      const verdicts = group.map((item) => verdict(item, 'later', '4.3.0', 'an internal fault; see the log'));
      await this.conclude({ verdicts, signed: null, how: 'busy', outlet: null, reservation: null });
    } finally {
      for (const item of taken) this.context.handingOver.delete(item.id);
      if (isPutBack) this.atHand.set(domain, [...group, ...(this.atHand.get(domain) ?? [])]);
      else for (const item of group) this.known.delete(item.id);
      if (!this.atHand.has(domain) && !this.perDomain.has(domain)) this.hostOf.delete(domain);
      this.running -= 1;
      if (this.stopped && this.running <= this.unwritten) for (const tell of this.idleWaiters) tell();
      this.wake();
    }
  }

  private async tried(domain: string, group: QueueItem[], taken: QueueItem[]): Promise<Attempt | 'no-place' | null> {
    // Somebody may have held or dropped it since it was read, or stopped its sender.
    const waiting = group.filter((item) => !this.context.handingOver.has(item.id) && stillDue(this.context.db, item.id));
    const stopped = waiting.filter((item) => stopOfSender(this.context, item) !== null);
    const due = waiting.filter((item) => !stopped.includes(item));
    taken.push(...due);
    for (const item of due) this.context.handingOver.add(item.id);
    if (stopped.length > 0) await this.holdStopped(stopped);
    if (due.length === 0) return null;
    const attempt = await this.attempt(due);
    if (attempt === 'no-place') return attempt;
    this.paceOf(domain).went(attempt.how, this.context.clock.steady());
    if (attempt.verdicts.some((one) => one.kind === 'relayed')) this.flowing.add(domain);
    else this.flowing.delete(domain);
    return attempt;
  }

  /** What waits of stopped senders, and was not held yet. */
  private async holdStopped(items: readonly QueueItem[]): Promise<void> {
    const { db, clock } = this.context;
    await db.commit(() => {
      for (const item of items) {
        const stop = stopOfSender(this.context, item);
        if (stop) hold(db, [item.id], stop.kind, clock.steady());
      }
    });
  }

  /** Takes one of the places that a server has; null when they are all taken. Returns how to give it back, with how it went. */
  private takePlace(domain: string, { address, port }: RemoteHost): ((how: Attempt['how']) => void) | null {
    const name = `${address} ${port}`;
    const server = this.hosts.get(name) ?? { pace: new Pace(AT_ONCE_PER_HOST, FIRST_PER_HOST), open: 0 };
    this.hosts.set(name, server);
    this.hostOf.set(domain, name);
    if (!server.pace.mayBegin(server.open, this.context.clock.steady())) return null;
    server.open += 1;
    return (how) => {
      server.open -= 1;
      server.pace.went(how, this.context.clock.steady());
      if (server.open === 0 && server.pace.isUsual) this.hosts.delete(name);
    };
  }

  private leave(domain: string): void {
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
  private async attempt(group: QueueItem[]): Promise<Attempt | 'no-place'> {
    const first = group[0] as QueueItem;
    const changes = this.outletChanges;
    const way = await wayOut(this.context, group, (values) => this.shuffled(values));
    const nowhere = (verdicts: Verdict[]): Attempt => ({ verdicts, signed: null, how: 'good', outlet: null, reservation: null });
    if (way.kind === 'wait') {
      const attempt = nowhere(group.map((item) => ({ ...verdict(item, 'wait', '4.4.4', way.reason), until: way.until })));
      return { ...attempt, isOutdated: () => this.outletChanges !== changes };
    }
    if (way.kind === 'later') return nowhere(group.map((item) => verdict(item, 'later', '4.4.3', way.reason)));
    if (way.kind === 'never') return nowhere(group.map((item) => verdict(item, 'never', way.status, way.reason)));
    const { outlet, reservation } = way;
    // The first host of the way that has a place for us; when none has, the others of the queue go first.
    let from = 0;
    let giveBack: ReturnType<Deliverer['takePlace']> = null;
    for (; from < way.hosts.length && !giveBack; from += 1) giveBack = this.takePlace(first.domain, way.hosts[from] as RemoteHost);
    if (!giveBack) {
      if (reservation) this.context.limits.release(reservation);
      return 'no-place';
    }
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
      for (const remote of way.hosts.slice(from - 1)) {
        tried = remote;
        result = await this.context.send(remote, envelope);
        if (result.kind === 'done') break;
      }
    } catch (error) {
      giveBack('good');
      if (reservation) this.context.limits.release(reservation);
      if (!(error instanceof TextLost)) throw error;
      await noteLost(this.context, error, { mailboxId: null, journeyId: first.journeyId });
      return nowhere(
        group.map((item) =>
          verdict(item, 'later', '4.3.0', 'the text of the message is damaged here; it is tried again until it is restored'),
        ),
      );
    }
    if (result.kind === 'unreachable') {
      const { reason } = result;
      // RFC 7504: a host that says 521 or 554 at greeting takes no mail at all; still tried again, another host may come.
      const verdicts = group.map((item) => ({ ...verdict(item, 'later', '4.4.1', reason), host: tried }));
      giveBack('away');
      return { verdicts, signed: null, how: 'away', outlet, reservation };
    }
    const { outcomes, tls, dsn, note } = result;
    const verdicts = group.map((item, at) => {
      const outcome = outcomes[at];
      const place = { host: tried, tls, dsn, note: note ?? null };
      if (!outcome) return { ...verdict(item, 'later', '4.5.0', 'the server said nothing about this recipient'), ...place };
      const text = `${outcome.reply.code} ${outcome.reply.text}`;
      const status = /^[245]\.\d{1,3}\.\d{1,3}/.exec(outcome.reply.text)?.[0] ?? `${Math.floor(outcome.reply.code / 100)}.0.0`;
      return { ...verdict(item, outcome.kind === 'taken' ? 'relayed' : outcome.kind, status, text), ...place };
    });
    const isOver = outcomes.some((one) => one.reply.code === 421);
    const how = isOver ? 'away' : outcomes.every((one) => one.kind === 'later') ? 'busy' : 'good';
    giveBack(how);
    return { verdicts, signed, how, outlet, reservation };
  }

  /**
   * Writes down what came of an attempt. While that can't be done (the disk is full, say), it is tried again, and nothing more is sent: what a server
   * has taken and we don't know any more would be sent again and again.
   */
  private async conclude(attempt: Attempt): Promise<void> {
    for (let isFirst = true; ; isFirst = false) {
      try {
        if (await writeOutcome(this.context, attempt, this.random)) this.nextAt = null;
        if (!isFirst) this.written();
        return;
      } catch (error) {
        if (isNoSpace(error)) this.context.space.wasFull();
        if (isFirst) {
          this.unwritten += 1;
          this.context.log.error(
            { journey: attempt.verdicts[0]?.item.journeyId, fault: faultText(error) },
            'an outcome can’t be written down; nothing is sent until it can',
          );
          if (this.stopped) for (const tell of this.idleWaiters) tell();
        }
        await new Promise<void>((resolve) => setTimeout(resolve, this.waits.writeAgainMs).unref());
      }
    }
  }

  private written(): void {
    this.unwritten -= 1;
    this.context.space.wasWritten();
    this.context.log.info({}, 'an outcome is written down after all');
    this.readAgain();
  }

  private shuffled(values: MxValue[]): MxValue[] {
    return values
      .map((value) => ({ value, order: this.random() }))
      .sort((one, other) => one.order - other.order)
      .map(({ value }) => value);
  }
}

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
