import { parseAddress } from '../core/address/mailbox-address.ts';
import { failureReport } from '../core/message/dsn.ts';
import type { MxValue } from '../core/records/answers.ts';
import { nextAttempt } from '../core/retry/schedule.ts';
import { findMailHosts } from '../core/routing/mail-hosts.ts';
import type { Envelope, RecipientOutcome } from '../core/smtp/client-session.ts';
import { addEntry, changeRecipient, listDue, nextDue, type QueueItem } from '../store/journeys.ts';
import { acceptMessage } from './accept-message.ts';
import type { ServiceContext } from './context.ts';
import { route } from './routing.ts';
import { newJourneyId } from './secrets.ts';

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
    const { host, lookup, files } = this.context;
    const first = group[0];
    if (!first) return [];
    const hosts = await findMailHosts(domain, host, lookup, (values) => this.shuffled(values));
    if (hosts.kind === 'later') return group.map((item) => verdict(item, 'later', '4.4.3', hosts.reason, null, false));
    if (hosts.kind === 'never') return group.map((item) => verdict(item, 'never', hosts.status, hosts.reason, null, false));
    const envelope: Envelope = { sender: first.sender, recipients: group.map((item) => item.address), content: files.read(first.file) };
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

  /** Writes down what became of each recipient; final failures are reported to the sender. */
  private async conclude(verdicts: Verdict[]): Promise<void> {
    const { db, clock, metrics, signals } = this.context;
    const failures: Verdict[] = [];
    await db.commit(() => {
      failures.length = 0;
      const now = clock.now();
      for (const one of verdicts) {
        const { item } = one;
        const attempts = item.attempts + 1;
        const next = one.kind === 'later' ? nextAttempt(attempts, item.acceptedAt, now) : null;
        const failed = one.kind === 'never' || next?.kind === 'give-up';
        const state = one.kind === 'relayed' ? 'relayed' : failed ? 'failed' : 'delayed';
        changeRecipient(db, item.id, { state, attempts, nextAttemptAt: next?.kind === 'again' ? next.at : null, reply: one.text, at: now });
        addEntry(db, {
          at: now,
          journeyId: item.journeyId,
          domain: item.senderDomain,
          event: state,
          data: {
            recipient: item.address,
            host: one.host?.name ?? null,
            address: one.host?.address ?? null,
            tls: one.secure,
            reply: one.text,
            status: one.status,
            attempt: attempts,
            ...(next?.kind === 'again' ? { nextAttemptAt: next.at } : {}),
          },
        });
        if (failed) failures.push(one);
      }
    });
    for (const one of verdicts)
      metrics.recipients.inc({ state: one.kind === 'relayed' ? 'relayed' : failures.includes(one) ? 'failed' : 'delayed' });
    if (failures.length > 0) await this.report(failures);
    for (const id of new Set(verdicts.map((one) => one.item.journeyId))) signals.emit('attempted', id);
  }

  /** Sends the failure report to the envelope sender; never for a report itself (RFC 5321 §6.1). */
  private async report(failures: Verdict[]): Promise<void> {
    const { db, clock, host, files } = this.context;
    const original = failures[0]?.item;
    if (!original || original.sender === null) return;
    const to = parseAddress(original.sender);
    const routing = to.kind === 'ok' ? route(this.context, to.address) : null;
    const id = newJourneyId(clock.now());
    if (routing?.kind !== 'ok') {
      await db.commit(() =>
        addEntry(db, {
          at: clock.now(),
          journeyId: original.journeyId,
          domain: original.senderDomain,
          event: 'not-reported',
          data: { to: original.sender, reason: 'the sender can’t be reached' },
        }),
      );
      return;
    }
    const content = failureReport({
      hostName: host.name,
      to: original.sender,
      id,
      originalId: original.journeyId,
      at: clock.now(),
      arrivedAt: original.acceptedAt,
      original: files.read(original.file),
      failures: failures.map((one) => ({
        recipient: one.item.address,
        status: one.status.replace(/^4/, '5'),
        diagnostic: one.text,
        remoteHost: one.host?.name ?? null,
      })),
    });
    await acceptMessage(this.context, {
      journey: {
        id,
        at: clock.now(),
        kind: 'report',
        sender: null,
        recipients: original.sender,
        subject: `Delivery report for ${original.journeyId}`,
        client: host.name,
        domain: original.senderDomain,
      },
      content,
      destinations: routing.destinations,
      steps: [
        { at: clock.now(), event: 'reporting', data: { about: original.journeyId, recipients: failures.map((one) => one.item.address) } },
      ],
      payer: null,
    });
    await db.commit(() =>
      addEntry(db, {
        at: clock.now(),
        journeyId: original.journeyId,
        domain: original.senderDomain,
        event: 'reported',
        data: { to: original.sender, report: id },
      }),
    );
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
