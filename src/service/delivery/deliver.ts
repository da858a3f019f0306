import type { MxValue } from '../../core/records/answers.ts';
import type { Envelope } from '../../core/smtp/client-intents.ts';
import { stillDue } from '../../store/due-recipients.ts';
import { TextLost } from '../../store/message-files.ts';
import { isNoSpace } from '../../store/no-space.ts';
import type { QueueItem } from '../../store/queue.ts';
import { noteLost } from '../acceptance/lost-texts.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import type { AttemptResult, RemoteHost } from '../base/ports.ts';
import { faultText } from '../base/problem.ts';
import { stopOfSender } from '../limits/set-stops.ts';
import { chooseHosts } from './choose-hosts.ts';
import { deliverHome, isAtHome } from './deliver-home.ts';
import type { DeliveryDeps } from './deps.ts';
import { DueMail, nextGroup } from './due-mail.ts';
import { holdStopped } from './hold-stopped.ts';
import { type OutgoingText, OutgoingTexts } from './outgoing-text.ts';
import { type Place, Places } from './places.ts';
import { type Attempt, attemptAt, nothingSent, recipientResult, resultsOf, writeOutcome } from './write-outcome.ts';

/** A conversation that takes longer gives its place to another one: a server that lets us hang costs a socket, and nobody's turn. */
const HANGS_AFTER_MS = 10_000;
/** One with a server that has not taken anything lately has so much of that time. */
const UNPROVEN_SHARE = 0.2;
/** What came of an attempt and can't be written down is tried again so often; until then nothing more is sent. */
const WRITE_AGAIN_MS = 1000;
const LONGEST_SLEEP_MS = 60_000;

/** Carries the queue outward: due recipients, grouped by message and domain, some at a time. */
export class Deliverer {
  private readonly due: DueMail;
  private readonly places = new Places();
  /** Domains whose server took the latest message, while there is more for them. */
  private readonly flowing = new Set<string>();
  private readonly texts: OutgoingTexts;
  /** Outcomes that can't be written down at the moment. */
  private unwritten = 0;
  /** Attempts that are not written down yet. */
  private running = 0;
  private readonly looking: BackgroundLoop;
  /** How often outlets were changed. */
  private outletChanges = 0;
  private idleWaiters: (() => void)[] = [];

  constructor(
    private readonly context: DeliveryDeps,
    private readonly random: () => number,
    private readonly waits = { hangsAfterMs: HANGS_AFTER_MS, writeAgainMs: WRITE_AGAIN_MS },
  ) {
    this.due = new DueMail(context.db);
    this.texts = new OutgoingTexts(context);
    this.looking = new BackgroundLoop({
      log: context.log,
      failed: 'due mail could not be found',
      everyMs: LONGEST_SLEEP_MS,
      turn: (isWoken) => {
        if (!isWoken) this.due.readOn();
        return context.loop.during('finding due mail', () => this.dispatch());
      },
    });
    context.signals.on('mail', (items) => {
      if (items === null) this.due.readAgain();
      else this.due.keep(items);
      this.wake();
    });
    context.signals.on('outlets', () => {
      this.outletChanges += 1;
    });
    context.signals.on('destination', (domain) => {
      this.places.wake(domain);
      this.due.wake(domain);
    });
    context.signals.on('realigned', () => {
      this.places.beginAnew();
      this.due.wakeAll();
      this.due.readAgain();
    });
    // What is held or dropped must not be tried; what was read of the queue is read again.
    context.signals.on('queue-changed', () => {
      this.due.letGo();
      this.wake();
    });
  }

  /** Looks for due mail now. */
  wake(): void {
    this.looking.wake();
  }

  /** Begins nothing new; resolves when what is under way is written down. */
  async stop(): Promise<void> {
    await this.looking.stop();
    // What can't be written down now never will be by this process.
    if (this.running > this.unwritten) await new Promise<void>((resolve) => this.idleWaiters.push(resolve));
  }

  /** Returns after how many ms the next look is worth it, null when somebody has to ask for it. */
  private dispatch(): number | null {
    if (this.unwritten > 0) return null;
    const { clock, log } = this.context;
    const now = clock.steady();
    let next = this.due.read(now);
    // Those that take mail, and what is new, come before what was tried in vain.
    for (const isAgain of [false, true])
      for (const [domain, waiting] of this.due.domains()) {
        if (waiting.length > 0 && isAgain === this.isTriedBefore(domain, waiting, now)) this.beginSome(domain, waiting, now, isAgain, log);
        if (this.places.isFull) break;
      }
    for (const [domain, waiting] of this.due.domains()) {
      this.due.refill(domain, now);
      if (waiting.length === 0) this.due.empty(domain);
      else if (this.flowing.has(domain)) this.texts.prepare(waiting);
    }
    next = Math.min(next, this.due.restedAt);
    if (this.due.isUnread) return 0;
    return next === Number.POSITIVE_INFINITY ? null : Math.min(LONGEST_SLEEP_MS, Math.max(20, next - clock.steady()));
  }

  private isTriedBefore(domain: string, [first]: readonly QueueItem[], now: number): boolean {
    return (first?.attempts ?? 0) > 0 && !this.places.isProven(domain, now);
  }

  private beginSome(domain: string, waiting: QueueItem[], now: number, isAgain: boolean, log: DeliveryDeps['log']): void {
    while (waiting.length > 0 && this.unwritten === 0 && this.places.mayBegin(domain, now, isAgain))
      this.begin(domain, nextGroup(waiting), now, isAgain).catch((error: unknown) =>
        log.error({ fault: faultText(error) }, 'delivery stopped with an error'),
      );
    const rest = waiting.length === 0 ? 0 : this.places.restsUntil(domain, now);
    if (rest > 0) this.due.rest(domain, rest);
  }

  private async begin(domain: string, group: QueueItem[], now: number, isAgain: boolean): Promise<void> {
    this.running += 1;
    const place = this.places.begin(domain, now, isAgain);
    const hangs = setTimeout(
      () => {
        this.places.hang(place);
        this.wake();
      },
      this.waits.hangsAfterMs * (place.isProven ? 1 : UNPROVEN_SHARE),
    );
    let isPutBack = false;
    const taken: QueueItem[] = [];
    try {
      // The next conversation need not wait until this one is written down.
      const attempt = await this.tried(place, group, taken).finally(() => {
        clearTimeout(hangs);
        if (this.places.end(place)) this.flowing.delete(domain);
        this.wake();
      });
      isPutBack = attempt === 'no-place';
      if (attempt !== null && attempt !== 'no-place') await this.conclude(attempt);
    } catch (error) {
      this.context.log.error({ journey: group[0]?.journeyId, fault: faultText(error) }, 'delivery attempt failed with an error');
      const perRecipient = group.map((item) => recipientResult(item, 'later', '4.3.0', 'an internal error; see the service’s log'));
      await this.conclude(nothingSent(perRecipient, { how: 'busy' }));
    } finally {
      for (const item of taken) this.context.handingOver.delete(item.id);
      if (isPutBack) this.due.putBack(domain, group);
      else this.due.done(group);
      if (!this.due.has(domain)) this.places.forget(domain);
      this.running -= 1;
      if (this.looking.isStopped && this.running <= this.unwritten) for (const tell of this.idleWaiters) tell();
      this.wake();
    }
  }

  private async tried(place: Place, group: QueueItem[], taken: QueueItem[]): Promise<Attempt | 'no-place' | null> {
    // Somebody may have held or dropped it since it was read, or stopped its sender.
    const waiting = group.filter((item) => !this.context.handingOver.has(item.id) && stillDue(this.context.db, item.id));
    const stopped = waiting.filter((item) => stopOfSender(this.context, item) !== null);
    const due = waiting.filter((item) => !stopped.includes(item));
    taken.push(...due);
    for (const item of due) this.context.handingOver.add(item.id);
    if (stopped.length > 0) await holdStopped(this.context, stopped);
    if (due.length === 0) return null;
    const attempt = await this.attempt(place, due);
    if (attempt === 'no-place' || attempt === null) return attempt;
    const isTaken = attempt.perRecipient.some((one) => one.kind === 'relayed');
    this.places.attemptEnded(place.domain, attempt.how, isTaken, this.context.clock.steady());
    if (isTaken) this.flowing.add(place.domain);
    else this.flowing.delete(place.domain);
    return attempt;
  }

  /** Tries the hosts of the way out in order until one takes a decision on the message. */
  private async attempt(place: Place, group: QueueItem[]): Promise<Attempt | 'no-place' | null> {
    const first = group[0] as QueueItem;
    if (isAtHome(this.context, first)) {
      const left = await deliverHome(this.context, group);
      return left.length === 0 ? null : nothingSent(left);
    }
    const changes = this.outletChanges;
    const way = await chooseHosts(this.context, group, (values) => shuffled(values, this.random));
    if (way.kind === 'wait') {
      const perRecipient = group.map((item) => recipientResult(item, 'wait', '4.4.4', way.reason, undefined, way.until));
      return nothingSent(perRecipient, { isOutdated: () => this.outletChanges !== changes });
    }
    if (way.kind === 'later') return nothingSent(group.map((item) => recipientResult(item, 'later', '4.4.3', way.reason)));
    if (way.kind === 'never') return nothingSent(group.map((item) => recipientResult(item, 'never', way.status, way.reason)));
    const { outlet, reservation } = way;
    // The first host of the way that has a place for us; when none has, the others of the queue go first.
    let from = 0;
    let giveBack: ReturnType<Places['takeOf']> = null;
    for (; from < way.hosts.length && !giveBack; from += 1)
      giveBack = this.places.takeOf(place, way.hosts[from] as RemoteHost, this.context.clock.steady);
    if (!giveBack) {
      if (reservation) this.context.limits.release(reservation);
      return 'no-place';
    }
    let result: AttemptResult = { kind: 'unreachable', reason: 'no host', code: null };
    let tried: RemoteHost | null = null;
    let signed: OutgoingText['signed'] = null;
    try {
      const text = await this.texts.of(first);
      signed = text.signed;
      const envelope: Envelope = {
        sender: first.onwardSender ?? first.sender,
        recipients: group.map(({ address, notify, original }) => ({ address, notify, original })),
        content: text.content,
        smtputf8: first.smtputf8,
        returnContent: first.returnContent,
        envelopeId: first.envelopeId,
      };
      for (const remote of way.hosts.slice(from - 1)) {
        tried = remote;
        result = await this.context.send(remote, envelope, place.watch);
        if (result.kind === 'done') break;
      }
    } catch (error) {
      giveBack('good');
      if (reservation) this.context.limits.release(reservation);
      if (!(error instanceof TextLost)) throw error;
      await noteLost(this.context, error, { mailboxId: null, journeyId: first.journeyId });
      return nothingSent(
        group.map((item) =>
          recipientResult(item, 'later', '4.3.0', 'the stored message is damaged; delivery is retried until it is restored'),
        ),
      );
    }
    if (result.kind === 'unreachable') {
      const { reason } = result;
      // RFC 7504: a host that says 521 or 554 at greeting takes no mail at all; still tried again, another host may come.
      const spoken = { host: tried, tls: null, dsn: false, note: null };
      const perRecipient = group.map((item) => recipientResult(item, 'later', '4.4.1', reason, spoken));
      giveBack('away');
      return attemptAt(perRecipient, { signed: null, how: 'away', outlet, reservation });
    }
    const { perRecipient, how } = resultsOf(group, result, tried);
    giveBack(how);
    return attemptAt(perRecipient, { signed, how, outlet, reservation });
  }

  /**
   * Writes down what came of an attempt. While that can't be done (the disk is full, say), it is tried again, and nothing more is sent: what a server
   * has taken and we don't know any more would be sent again and again.
   */
  private async conclude(attempt: Attempt): Promise<void> {
    for (let isFirst = true; ; isFirst = false) {
      try {
        if (await writeOutcome(this.context, attempt, this.random)) this.due.lookUpNext();
        if (!isFirst) this.written();
        return;
      } catch (error) {
        if (isNoSpace(error)) this.context.space.wasFull();
        if (isFirst) {
          this.unwritten += 1;
          this.context.log.error(
            { journey: attempt.perRecipient[0]?.item.journeyId, fault: faultText(error) },
            'a delivery result can’t be saved; sending stops until it can',
          );
          if (this.looking.isStopped) for (const tell of this.idleWaiters) tell();
        }
        await new Promise<void>((resolve) => setTimeout(resolve, this.waits.writeAgainMs).unref());
      }
    }
  }

  private written(): void {
    this.unwritten -= 1;
    this.context.space.wasWritten();
    this.context.log.info({}, 'the delivery result is saved now');
    this.due.readAgain();
  }
}

/** In an order by chance. */
const shuffled = (values: MxValue[], random: () => number): MxValue[] =>
  values
    .map((value) => ({ value, order: random() }))
    .sort((one, other) => one.order - other.order)
    .map(({ value }) => value);
