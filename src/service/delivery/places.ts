import { BoundedMap } from '../../core/bounded-map.ts';
import { Pace } from '../../core/retry/pace.ts';
import type { AttemptWatch, RemoteHost } from '../base/ports.ts';
import type { Attempt } from './write-outcome.ts';

/** Conversations that get on. */
const AT_ONCE = 100;
/** Of those, for domains whose server has not taken anything lately, and of these for mail that was tried before: healthy and new mail finds a place. */
const UNPROVEN = 60;
const UNPROVEN_AGAIN = 40;
/** For one domain: a few, then more with each message that is taken, as long as half of all places are free. */
const AT_ONCE_PER_DOMAIN = 20;
const FIRST_PER_DOMAIN = 8;
const FIRST_UNPROVEN = 2;
/** To one server, whatever the domains that it has, in the same way. */
const AT_ONCE_PER_HOST = 40;
const FIRST_PER_HOST = 8;
/** Conversations that hang. With more, the one that has hung longest is given up. */
const MOST_HANGING = 60;
/** Conversations of one domain that may hang before no more of it are begun: of one that takes mail, and of any other. */
const HANGING_PROVEN = 4;
const HANGING_UNPROVEN = 1;
const MOST_PACES = 20_000;
/** While too many conversations with it hang, a domain is looked at again after this. */
const HANGING_REST_MS = 5000;
/** For so long a domain counts as one whose server takes mail. */
const PROVEN_MS = 3_600_000;
const MOST_PROVEN = 5000;

const UNTRIED = new Pace(AT_ONCE_PER_DOMAIN, FIRST_PER_DOMAIN);

/** The place of one conversation. */
export interface Place {
  readonly domain: string;
  readonly isProven: boolean;
  /** Whether the mail was tried before. */
  readonly isAgain: boolean;
  /** The server that is spoken to, by address and port. */
  server: string | null;
  isHanging: boolean;
  /** By which the conversation can be given up. */
  readonly watch: AttemptWatch;
}

interface Server {
  pace: Pace;
  open: number;
  hanging: number;
}

/** The places for conversations with other servers: of all, of each domain, and of each server. Times are those of the steady clock. */
export class Places {
  private readonly perDomain = new Map<string, { open: number; hanging: number }>();
  private readonly paces = new BoundedMap<string, Pace>(MOST_PACES);
  private readonly hosts = new Map<string, Server>();
  /** The server that a domain's mail went to last. */
  private readonly hostOf = new Map<string, string>();
  /** When a domain's server last took something. */
  private readonly goodAt = new BoundedMap<string, number>(MOST_PROVEN);
  /** Conversations under way, and those among them with unproven domains. */
  private talking = 0;
  private unproven = 0;
  private unprovenAgain = 0;
  /** Those that have hung for long, the oldest first. */
  private readonly hanging = new Set<Place>();

  get isFull(): boolean {
    return this.talking >= AT_ONCE;
  }

  isProven(domain: string, now: number): boolean {
    const at = this.goodAt.get(domain);
    return at !== undefined && now - at < PROVEN_MS;
  }

  /** Whether a conversation for that domain may begin; `isAgain` for mail that was tried before. */
  mayBegin(domain: string, now: number, isAgain = false): boolean {
    if (this.isFull || this.hangsFor(domain, now)) return false;
    const open = this.perDomain.get(domain)?.open ?? 0;
    if (!this.isProven(domain, now)) {
      if (this.unproven >= UNPROVEN || open >= FIRST_UNPROVEN) return false;
      if (isAgain && this.unprovenAgain >= UNPROVEN_AGAIN) return false;
    }
    if (open >= FIRST_PER_DOMAIN && this.talking >= AT_ONCE / 2) return false;
    const server = this.serverOf(domain);
    return this.paceOf(domain).mayBegin(open, now) && (server === null || server.pace.mayBegin(server.open, now));
  }

  /** Until when a domain, or its server, rests; 0 when neither does. */
  restsUntil(domain: string, now: number): number {
    if (this.hangsFor(domain, now)) return now + HANGING_REST_MS;
    return Math.max(this.paceOf(domain).restsUntil(now), this.serverOf(domain)?.pace.restsUntil(now) ?? 0);
  }

  begin(domain: string, now: number, isAgain = false): Place {
    const place: Place = {
      domain,
      isProven: this.isProven(domain, now),
      isAgain,
      server: null,
      isHanging: false,
      watch: { current: null },
    };
    this.count(place, 1);
    const counts = this.perDomain.get(domain) ?? { open: 0, hanging: 0 };
    counts.open += 1;
    this.perDomain.set(domain, counts);
    return place;
  }

  /** A conversation has taken long: it gives its place to another one, and shares a few with all that hang. */
  hang(place: Place): void {
    place.isHanging = true;
    this.count(place, -1);
    this.countHanging(place, 1);
    this.hanging.add(place);
    if (this.hanging.size <= MOST_HANGING) return;
    // One whose text has gone may have been taken: it would be sent twice.
    const can = [...this.hanging].filter((one) => one.watch.current !== null);
    const oldest = can.find((one) => one.watch.current?.textSent === false) ?? can[0];
    oldest?.watch.current?.giveUp('did not answer in time while other mail was waiting');
  }

  /** A conversation has ended. Returns whether it was the last one of its domain. */
  end(place: Place): boolean {
    const { domain } = place;
    if (place.isHanging) {
      this.hanging.delete(place);
      this.countHanging(place, -1);
    } else this.count(place, -1);
    const counts = this.perDomain.get(domain);
    if (counts) counts.open -= 1;
    if (counts && counts.open > 0) return false;
    this.perDomain.delete(domain);
    if (this.paces.get(domain)?.isUsual) this.paces.delete(domain);
    return true;
  }

  /** Nothing of a domain waits any more. */
  forget(domain: string): void {
    if (!this.perDomain.has(domain)) this.hostOf.delete(domain);
  }

  /** How a conversation for a domain has gone. */
  attemptEnded(domain: string, how: Attempt['how'], isTaken: boolean, now: number): void {
    if (isTaken) this.goodAt.renew(domain, now);
    else if (how === 'away') this.goodAt.delete(domain);
    const pace = this.paces.get(domain) ?? new Pace(AT_ONCE_PER_DOMAIN, FIRST_PER_DOMAIN);
    pace.attemptEnded(how, now);
    this.paces.set(domain, pace);
  }

  /** Takes one of the places that a server has; null when they are all taken. Returns how to give it back, with how it went. */
  takeOf(place: Place, { address, port }: RemoteHost, steady: () => number): ((how: Attempt['how']) => void) | null {
    const name = `${address} ${port}`;
    const server = this.hosts.get(name) ?? { pace: new Pace(AT_ONCE_PER_HOST, FIRST_PER_HOST), open: 0, hanging: 0 };
    this.hosts.set(name, server);
    this.hostOf.set(place.domain, name);
    if (server.hanging >= (place.isProven ? HANGING_PROVEN : HANGING_UNPROVEN) || !server.pace.mayBegin(server.open, steady())) return null;
    server.open += 1;
    place.server = name;
    if (place.isHanging) server.hanging += 1;
    return (how) => {
      server.open -= 1;
      if (place.isHanging && place.server === name) server.hanging -= 1;
      place.server = null;
      server.pace.attemptEnded(how, steady());
      if (server.open === 0 && server.pace.isUsual) this.hosts.delete(name);
    };
  }

  /** Somebody wants mail for a domain tried now. */
  wake(domain: string): void {
    this.paces.get(domain)?.wake();
    this.serverOf(domain)?.pace.wake();
  }

  /** The clock was set anew: what rests until a time of it begins anew. */
  beginAnew(): void {
    this.paces.clear();
    for (const { pace } of this.hosts.values()) pace.wake();
  }

  private count({ isProven, isAgain }: Place, by: 1 | -1): void {
    this.talking += by;
    if (isProven) return;
    this.unproven += by;
    if (isAgain) this.unprovenAgain += by;
  }

  private countHanging({ domain, server }: Place, by: 1 | -1): void {
    const counts = this.perDomain.get(domain);
    if (counts) counts.hanging += by;
    const host = server === null ? undefined : this.hosts.get(server);
    if (host) host.hanging += by;
  }

  /** Whether conversations with a domain, or with its server, hang, so that no more are begun. */
  private hangsFor(domain: string, now: number): boolean {
    const most = this.isProven(domain, now) ? HANGING_PROVEN : HANGING_UNPROVEN;
    return (this.perDomain.get(domain)?.hanging ?? 0) >= most || (this.serverOf(domain)?.hanging ?? 0) >= most;
  }

  private paceOf(domain: string): Pace {
    return this.paces.get(domain) ?? UNTRIED;
  }

  private serverOf(domain: string): Server | null {
    const name = this.hostOf.get(domain);
    return (name !== undefined && this.hosts.get(name)) || null;
  }
}
