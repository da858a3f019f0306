import { Pace } from '../../core/retry/pace.ts';
import type { RemoteHost } from '../base/ports.ts';
import type { Attempt } from './write-outcome.ts';

/** Conversations that get on. */
const AT_ONCE = 100;
/** For one domain: a few, then more with each message that is taken, as long as half of all places are free. */
const AT_ONCE_PER_DOMAIN = 20;
const FIRST_PER_DOMAIN = 8;
/** To one server, whatever the domains that it has, in the same way. */
const AT_ONCE_PER_HOST = 40;
const FIRST_PER_HOST = 8;
const MOST_HANGING = 300;

/** The places for conversations with other servers: of all, of each domain, and of each server. Times are those of the steady clock. */
export class Places {
  private readonly perDomain = new Map<string, number>();
  private readonly paces = new Map<string, Pace>();
  /** Servers by address and port: how they fare, and how many conversations they have. */
  private readonly hosts = new Map<string, { pace: Pace; open: number }>();
  /** The server that a domain's mail went to last. */
  private readonly hostOf = new Map<string, string>();
  /** Conversations under way, and those that have hung for long. */
  private talking = 0;
  private hanging = 0;

  /** Whether a conversation for that domain may begin. */
  mayBegin(domain: string, now: number): boolean {
    if (this.talking >= AT_ONCE) return false;
    const server = this.serverOf(domain);
    const open = this.perDomain.get(domain) ?? 0;
    if (open >= FIRST_PER_DOMAIN && this.talking >= AT_ONCE / 2) return false;
    return this.paceOf(domain).mayBegin(open, now) && (server === null || server.pace.mayBegin(server.open, now));
  }

  /** Until when a domain, or its server, rests; 0 when neither does. */
  restsUntil(domain: string, now: number): number {
    return Math.max(this.paceOf(domain).restsUntil(now), this.serverOf(domain)?.pace.restsUntil(now) ?? 0);
  }

  begin(domain: string): void {
    this.talking += 1;
    this.perDomain.set(domain, (this.perDomain.get(domain) ?? 0) + 1);
  }

  /** A conversation has taken long and gives its place to another one; false when too many have. */
  hang(): boolean {
    if (this.hanging >= MOST_HANGING) return false;
    this.hanging += 1;
    this.talking -= 1;
    return true;
  }

  /** A conversation has ended. Returns whether it was the last one of its domain. */
  end(domain: string, wasHanging: boolean): boolean {
    if (wasHanging) this.hanging -= 1;
    else this.talking -= 1;
    const left = (this.perDomain.get(domain) ?? 1) - 1;
    if (left > 0) this.perDomain.set(domain, left);
    else {
      this.perDomain.delete(domain);
      if (this.paces.get(domain)?.isUsual) this.paces.delete(domain);
    }
    return left <= 0;
  }

  /** Nothing of a domain waits any more. */
  forget(domain: string): void {
    if (!this.perDomain.has(domain)) this.hostOf.delete(domain);
  }

  /** How a conversation for a domain has gone. */
  attemptEnded(domain: string, how: Attempt['how'], now: number): void {
    this.paceOf(domain).attemptEnded(how, now);
  }

  /** Takes one of the places that a server has; null when they are all taken. Returns how to give it back, with how it went. */
  takeOf(domain: string, { address, port }: RemoteHost, steady: () => number): ((how: Attempt['how']) => void) | null {
    const name = `${address} ${port}`;
    const server = this.hosts.get(name) ?? { pace: new Pace(AT_ONCE_PER_HOST, FIRST_PER_HOST), open: 0 };
    this.hosts.set(name, server);
    this.hostOf.set(domain, name);
    if (!server.pace.mayBegin(server.open, steady())) return null;
    server.open += 1;
    return (how) => {
      server.open -= 1;
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

  private paceOf(domain: string): Pace {
    const pace = this.paces.get(domain) ?? new Pace(AT_ONCE_PER_DOMAIN, FIRST_PER_DOMAIN);
    this.paces.set(domain, pace);
    return pace;
  }

  private serverOf(domain: string): { pace: Pace; open: number } | null {
    const name = this.hostOf.get(domain);
    return (name !== undefined && this.hosts.get(name)) || null;
  }
}
