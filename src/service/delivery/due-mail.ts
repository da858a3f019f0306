import type { Database } from '../../store/database.ts';
import { type DueKey, listDueItems, listDueKeys, listDueOf, nextDue } from '../../store/due-recipients.ts';
import type { QueueItem } from '../../store/queue.ts';

const MOST_PER_MESSAGE = 100;
/** Due recipients of one domain that are in memory; with more, the others wait in the database. */
const MOST_OF_DOMAIN = 400;
/** Of all domains. */
const MOST_OF_ALL = 4000;
/** Rows of the queue that are looked through in one turn, and read whole. */
const KEYS = 2000;
const REFILL = 500;
/** With fewer of a domain in memory, more of it are read. */
const FEW = 64;
/** Domains whose recipients are read from the database in one turn. */
const DOMAINS_AT_ONCE = 20;

/**
 * Due recipients in memory, by domain; read from the database a part at a time, or told of as they are accepted. Every other due recipient
 * belongs to a domain that is known to have some in the database, or that rests.
 */
export class DueMail {
  /** Those that wait for their turn. */
  private readonly atHand = new Map<string, QueueItem[]>();
  /** In memory, or under way. */
  private readonly known = new Set<number>();
  /** Domains with due recipients in the database that are not in memory. */
  private readonly inDatabase = new Set<string>();
  /** Domains that are not tried before a time; what waits for them is in the database. */
  private readonly resting = new Map<string, number>();
  private nextRested = Number.POSITIVE_INFINITY;
  /** The last due recipient that was looked at. */
  private readTo: DueKey | null = null;
  /** Whether the database may hold due recipients behind that one. */
  private unread = true;
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

  /** Whether more can be read now. */
  get isUnread(): boolean {
    return this.hasRoom && (this.unread || !this.wanting(1).next().done);
  }

  /** Domains of which more should be read: at most as many as have much in memory are passed over. */
  private *wanting(most: number): Generator<string> {
    let left = most;
    for (const domain of this.inDatabase) {
      if ((this.atHand.get(domain)?.length ?? 0) >= FEW) continue;
      yield domain;
      left -= 1;
      if (left === 0) return;
    }
  }

  private get hasRoom(): boolean {
    return this.known.size < MOST_OF_ALL;
  }

  /** Anything may have become due. */
  readAgain(): void {
    this.readTo = null;
    this.unread = true;
    this.nextAt = null;
  }

  /** More has become due with time. */
  readOn(): void {
    this.unread = true;
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
    this.inDatabase.clear();
    this.readAgain();
  }

  keep(items: readonly QueueItem[]): void {
    for (const item of items) {
      const { domain } = item;
      if (this.known.has(item.id) || this.resting.has(domain)) continue;
      const waiting = this.atHand.get(domain) ?? [];
      if (waiting.length >= MOST_OF_DOMAIN || !this.hasRoom) {
        this.inDatabase.add(domain);
        continue;
      }
      waiting.push(item);
      this.atHand.set(domain, waiting);
      this.known.add(item.id);
    }
  }

  /** Reads what is due by now, as far as it was not, and as there is room. Returns when the next one will be; infinity for never. */
  read(now: number): number {
    if (this.nextRested <= now) this.endRests(now);
    if (this.hasRoom) this.readKeys(now);
    for (const domain of [...this.wanting(DOMAINS_AT_ONCE)]) if (this.hasRoom) this.readDomain(domain, now);
    if (this.nextAt === null || this.nextAt <= now) this.nextAt = nextDue(this.db, now) ?? Number.POSITIVE_INFINITY;
    return Math.min(this.nextAt, this.nextRested);
  }

  private readKeys(now: number): void {
    if (!this.unread) return;
    const keys = listDueKeys(this.db, now, this.readTo, KEYS);
    const wanted: number[] = [];
    for (const key of keys) {
      const { id, domain } = key;
      this.readTo = key;
      if (this.known.has(id) || this.resting.has(domain) || this.inDatabase.has(domain)) continue;
      wanted.push(id);
      if (wanted.length === REFILL) break;
    }
    this.unread = keys.length === KEYS || wanted.length === REFILL;
    if (wanted.length > 0) this.keep(listDueItems(this.db, wanted));
  }

  private readDomain(domain: string, now: number): void {
    this.inDatabase.delete(domain);
    const items = listDueOf(this.db, domain, now, REFILL);
    this.keep(items);
    // Those that are under way come first, and some may be left.
    if (items.length === REFILL) this.inDatabase.add(domain);
  }

  /** A domain has few in memory: those that wait in the database are read. */
  refill(domain: string, now: number): void {
    if ((this.atHand.get(domain)?.length ?? 0) < FEW && this.inDatabase.has(domain) && this.hasRoom) this.readDomain(domain, now);
  }

  /** A domain is not tried before a time: what waits for it keeps no memory from others. */
  rest(domain: string, until: number): void {
    for (const item of this.atHand.get(domain) ?? []) this.known.delete(item.id);
    this.atHand.delete(domain);
    this.inDatabase.delete(domain);
    this.resting.set(domain, until);
    this.nextRested = Math.min(this.nextRested, until);
  }

  /** When the first of those that rest may be tried; infinity for never. */
  get restedAt(): number {
    return this.nextRested;
  }

  /** Somebody wants a domain tried now. */
  wake(domain: string): void {
    if (this.resting.delete(domain)) this.inDatabase.add(domain);
  }

  /** The clock was set anew: what rests until a time of it is looked at again. */
  wakeAll(): void {
    for (const domain of [...this.resting.keys()]) this.wake(domain);
    this.nextRested = Number.POSITIVE_INFINITY;
  }

  private endRests(now: number): void {
    this.nextRested = Number.POSITIVE_INFINITY;
    for (const [domain, until] of this.resting) {
      if (until <= now) this.wake(domain);
      else this.nextRested = Math.min(this.nextRested, until);
    }
  }

  /** Nothing of a domain waits in memory. */
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
