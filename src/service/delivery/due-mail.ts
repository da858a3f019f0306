import type { Database } from '../../store/database.ts';
import { listDue, nextDue, type QueueItem } from '../../store/queue.ts';

const MOST_PER_MESSAGE = 100;
/** Due recipients of one domain that are kept at hand; with more, the others wait in the database and never push other domains aside. */
const MOST_AT_HAND = 400;
const REFILL = 500;
/** With fewer of a domain at hand, more of it are read. */
const FEW = 64;

/** Due recipients at hand, by domain; read from the database a part at a time, or told of as they are accepted. */
export class DueMail {
  /** Those that wait for their turn. */
  private readonly atHand = new Map<string, QueueItem[]>();
  /** At hand, or under way. */
  private readonly known = new Set<number>();
  /** Domains with more due recipients in the database than are at hand. */
  private readonly overflowing = new Set<string>();
  /** Whether the database may hold due recipients that were not read yet. */
  private unread = true;
  /** The last one of those that were read, while there may be more. */
  private readTo: QueueItem | null = null;
  /** When the next recipient becomes due; null when that must be looked up. */
  private nextAt: number | null = null;

  constructor(private readonly db: Database) {}

  /** Each domain with what waits of it. */
  domains(): IterableIterator<[string, QueueItem[]]> {
    return this.atHand.entries();
  }

  has(domain: string): boolean {
    return this.atHand.has(domain);
  }

  get isUnread(): boolean {
    return this.unread;
  }

  readAgain(): void {
    this.unread = true;
    this.readTo = null;
    this.nextAt = null;
  }

  /** What is due later than was known must be looked up. */
  lookUpNext(): void {
    this.nextAt = null;
  }

  /** Lets go of all that waits: it may have been held or dropped. */
  letGo(): void {
    for (const items of this.atHand.values()) for (const item of items) this.known.delete(item.id);
    this.atHand.clear();
    this.overflowing.clear();
    this.readAgain();
  }

  keep(items: readonly QueueItem[]): void {
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

  /** Reads what is due by now, as far as it was not. Returns when the next one will be; infinity for never. */
  read(now: number): number {
    if (this.unread) {
      const due = listDue(this.db, now, this.readTo, [...this.overflowing], REFILL);
      this.readTo = due.length === REFILL ? (due.at(-1) ?? null) : null;
      this.unread = this.readTo !== null;
      this.keep(due);
    }
    if (this.nextAt === null || this.nextAt <= now) this.nextAt = nextDue(this.db, now) ?? Number.POSITIVE_INFINITY;
    return this.nextAt;
  }

  /** A domain has few at hand: those that wait in the database are read. */
  refill(domain: string, waiting: readonly QueueItem[]): void {
    if (waiting.length < FEW && this.overflowing.delete(domain)) this.readAgain();
  }

  /** Nothing of a domain waits at hand. */
  empty(domain: string): void {
    this.atHand.delete(domain);
  }

  putBack(domain: string, group: readonly QueueItem[]): void {
    this.atHand.set(domain, [...group, ...(this.atHand.get(domain) ?? [])]);
  }

  /** Those have had their turn. */
  done(group: readonly QueueItem[]): void {
    for (const item of group) this.known.delete(item.id);
  }
}

/** Takes from the front the recipients that can share one transaction: those of one message, with one envelope sender. */
export function nextGroup(waiting: QueueItem[]): QueueItem[] {
  const [first] = waiting;
  let length = 1;
  while (length < MOST_PER_MESSAGE && length < waiting.length) {
    const one = waiting[length];
    if (one?.journeyId !== first?.journeyId || one?.onwardSender !== first?.onwardSender || one?.homeDomainId !== first?.homeDomainId)
      break;
    length += 1;
  }
  return waiting.splice(0, length);
}
