import type { MxValue } from '../core/records/answers.ts';
import { nextAttempt } from '../core/retry/schedule.ts';
import { findMailHosts } from '../core/routing/mail-hosts.ts';
import type { Envelope, RecipientOutcome } from '../core/smtp/client-session.ts';
import { addEntry, changeRecipient, listDue, nextDue, type QueueItem, type RecipientState } from '../store/journeys.ts';
import type { ServiceContext } from './context.ts';
import { reportFailure } from './report-failure.ts';

export interface RemoteHost {
  name: string;
  address: string;
}

export type AttemptResult =
  | { kind: 'done'; outcomes: RecipientOutcome[]; secure: boolean }
  | { kind: 'unreachable'; reason: string; code: number | null };

/** The way out to another server; net provides it. */
export type SendMail = (host: RemoteHost, envelope: Envelope) => Promise<AttemptResult>;

const AT_ONCE = 32;
const AT_ONCE_PER_DOMAIN = 8;
const MOST_PER_MESSAGE = 100;
/** Due recipients of one domain that are kept at hand; with more, the others wait in the database and never push other domains aside. */
const MOST_AT_HAND = 100;
const REFILL = 500;
const LONGEST_SLEEP_MS = 60_000;

/** What one attempt came to for one recipient. */
interface Verdict {
  item: QueueItem;
  kind: 'relayed' | 'later' | 'never';
  status: string;
  text: string;
  host: RemoteHost | null;
  secure: boolean;
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
  private running = 0;
  private timer: NodeJS.Timeout | null = null;
  private stopped = false;
  private scheduled = false;
  /** Whether the database may hold due recipients that were not read yet. */
  private unread = true;
  private idleWaiters: (() => void)[] = [];

  constructor(
    private readonly context: ServiceContext,
    private readonly sendMail: SendMail,
    private readonly random: () => number,
  ) {
    context.signals.on('mail', (items) => {
      if (items === null) this.unread = true;
      else this.keepAtHand(items);
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

  private dispatch(): void {
    if (this.stopped) return;
    if (this.timer) clearTimeout(this.timer);
    const { db, clock } = this.context;
    if (this.unread) {
      const due = listDue(db, clock.now(), [...this.overflowing], REFILL);
      this.unread = due.length === REFILL;
      this.keepAtHand(due);
    }
    for (const [domain, waiting] of this.atHand) {
      while (waiting.length > 0 && this.running < AT_ONCE && (this.perDomain.get(domain) ?? 0) < AT_ONCE_PER_DOMAIN)
        void this.begin(domain, nextGroup(waiting));
      if (waiting.length > 0) continue;
      this.atHand.delete(domain);
      if (this.overflowing.delete(domain)) this.unread = true;
    }
    if (this.unread) return this.wake();
    const next = nextDue(db, clock.now());
    if (next === null) return;
    this.timer = setTimeout(
      () => {
        this.unread = true;
        this.dispatch();
      },
      Math.min(LONGEST_SLEEP_MS, Math.max(20, next - clock.now())),
    );
    this.timer.unref();
  }

  private async begin(domain: string, group: QueueItem[]): Promise<void> {
    this.running += 1;
    this.perDomain.set(domain, (this.perDomain.get(domain) ?? 0) + 1);
    try {
      await this.conclude(await this.attempt(domain, group));
    } catch (error) {
      this.context.log.error(
        { journey: group[0]?.journeyId, fault: String((error as Error)?.stack ?? error) },
        'delivery attempt failed by a fault',
      );
      await this.conclude(group.map((item) => verdict(item, 'later', '4.3.0', 'an internal fault; see the log', null, false))).catch(
        () => {},
      );
    } finally {
      for (const item of group) this.known.delete(item.id);
      const left = (this.perDomain.get(domain) ?? 1) - 1;
      if (left > 0) this.perDomain.set(domain, left);
      else this.perDomain.delete(domain);
      this.running -= 1;
      if (this.stopped && this.running === 0) for (const tell of this.idleWaiters) tell();
      this.wake();
    }
  }

  /** Tries the domain's hosts in order until one takes a decision on the message. */
  private async attempt(domain: string, group: QueueItem[]): Promise<Verdict[]> {
    const { host, lookup, texts } = this.context;
    const first = group[0];
    if (!first) return [];
    const hosts = await findMailHosts(domain, host, lookup, (values) => this.shuffled(values));
    if (hosts.kind === 'later') return group.map((item) => verdict(item, 'later', '4.4.3', hosts.reason, null, false));
    if (hosts.kind === 'never') return group.map((item) => verdict(item, 'never', hosts.status, hosts.reason, null, false));
    const envelope: Envelope = { sender: first.sender, recipients: group.map((item) => item.address), content: texts.read(first.file) };
    let result: AttemptResult = { kind: 'unreachable', reason: 'no host', code: null };
    let tried: RemoteHost | null = null;
    for (const remote of hosts.hosts) {
      tried = remote;
      result = await this.sendMail(remote, envelope);
      if (result.kind === 'done') break;
    }
    if (result.kind === 'unreachable') {
      const { reason } = result;
      // RFC 7504: a host that says 521 or 554 at greeting takes no mail at all; still tried again, another host may come.
      return group.map((item) => verdict(item, 'later', '4.4.1', reason, tried, false));
    }
    const { outcomes, secure } = result;
    return group.map((item, at) => {
      const outcome = outcomes[at];
      if (!outcome) return verdict(item, 'later', '4.5.0', 'the server said nothing about this recipient', tried, secure);
      const text = `${outcome.reply.code} ${outcome.reply.text}`;
      const status = /^[245]\.\d{1,3}\.\d{1,3}/.exec(outcome.reply.text)?.[0] ?? `${Math.floor(outcome.reply.code / 100)}.0.0`;
      return verdict(
        item,
        outcome.kind === 'taken' ? 'relayed' : outcome.kind === 'later' ? 'later' : 'never',
        status,
        text,
        tried,
        secure,
      );
    });
  }

  private shuffled(values: MxValue[]): MxValue[] {
    return values
      .map((value) => ({ value, order: this.random() }))
      .sort((one, other) => one.order - other.order)
      .map(({ value }) => value);
  }

  /**
   * Writes down what became of each recipient. Final failures are reported first: should the service be killed in between,
   * the sender is told twice rather than never.
   */
  private async conclude(verdicts: Verdict[]): Promise<void> {
    const { db, clock, metrics, signals } = this.context;
    const first = verdicts[0]?.item;
    if (!first) return;
    const now = clock.now();
    const results = verdicts.map((one) => {
      const next = one.kind === 'later' ? nextAttempt(one.item.attempts + 1, one.item.acceptedAt, now) : null;
      const failed = one.kind === 'never' || next?.kind === 'give-up';
      const state: RecipientState = one.kind === 'relayed' ? 'relayed' : failed ? 'failed' : 'delayed';
      return { ...one, state, nextAttemptAt: next?.kind === 'again' ? next.at : null };
    });
    const failures = results.filter((one) => one.state === 'failed');
    const reported =
      failures.length === 0
        ? null
        : await reportFailure(
            this.context,
            first,
            failures.map((one) => ({ recipient: one.item.address, status: one.status, text: one.text, host: one.host?.name ?? null })),
          );
    await db.commit(() => {
      for (const { item, state, nextAttemptAt, text, host, secure, status } of results) {
        const attempts = item.attempts + 1;
        changeRecipient(db, item.id, { state, attempts, nextAttemptAt, reply: text, at: now });
        const where = { host: host?.name ?? null, address: host?.address ?? null, tls: secure };
        const data = {
          recipient: item.address,
          ...where,
          reply: text,
          status,
          attempt: attempts,
          ...(nextAttemptAt ? { nextAttemptAt } : {}),
        };
        addEntry(db, { at: now, journeyId: item.journeyId, domain: item.senderDomain, event: state, data });
      }
      if (reported) addEntry(db, { ...reported, journeyId: first.journeyId, domain: first.senderDomain });
    });
    for (const { state } of results) metrics.recipients.inc({ state });
    signals.emit('attempted', first.journeyId);
  }
}

const verdict = (
  item: QueueItem,
  kind: Verdict['kind'],
  status: string,
  text: string,
  host: RemoteHost | null,
  secure: boolean,
): Verdict => ({ item, kind, status, text, host, secure });

/** Takes from the front the recipients that can share one transaction: those of one message. */
function nextGroup(waiting: QueueItem[]): QueueItem[] {
  let length = 1;
  while (length < MOST_PER_MESSAGE && waiting[length]?.journeyId === waiting[0]?.journeyId && length < waiting.length) length += 1;
  return waiting.splice(0, length);
}
