import { whoseAddress } from '../../core/address/ip-address.ts';
import { domainSide } from '../../core/address/sides.ts';

const HOUR = 3_600_000;
/** Reports that leave for one address, and for all addresses outside, within an hour. */
const MOST_TO_ONE = 20;
const MOST_TO_ALL = 1000;
/** About mail of senders whom nothing vouches for: to one domain, and about what came from one network. */
const MOST_TO_DOMAIN = 5;
const MOST_OF_NETWORK = 5;
const MOST_KEPT = 20_000;

/**
 * Bounds the reports that leave for the outside: whoever makes this server write to others by what it sends here, can't make it write without end.
 * Reports into mailboxes here have their owners' quotas.
 */
export class ReportLimit {
  private begun = 0;
  private all = 0;
  private readonly sent = new Map<string, number>();

  /**
   * Counts one more report to an address outside; false when there were enough within the hour. `client` is from where the message came whose
   * sender nothing vouches for, null for one that is vouched for. `now` by the steady clock.
   */
  take(address: string, client: string | null, now: number): boolean {
    if (now - this.begun >= HOUR) {
      this.begun = now;
      this.all = 0;
      this.sent.clear();
    }
    const key = address.toLowerCase();
    const counted: [string, number][] = [[key, MOST_TO_ONE]];
    if (client !== null) counted.push([`@${domainSide(key)}`, MOST_TO_DOMAIN], [`from ${networkOf(client)}`, MOST_OF_NETWORK]);
    if (this.all >= MOST_TO_ALL || this.sent.size >= MOST_KEPT) return false;
    if (counted.some(([name, most]) => (this.sent.get(name) ?? 0) >= most)) return false;
    for (const [name] of counted) this.sent.set(name, (this.sent.get(name) ?? 0) + 1);
    this.all += 1;
    return true;
  }
}

/** 24 bits of IPv4, 64 of IPv6. */
const networkOf = (client: string): string => (client.includes(':') ? whoseAddress(client) : client.split('.').slice(0, 3).join('.'));
