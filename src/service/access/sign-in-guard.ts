import { whoseAddress, wideAddress } from '../../core/address/ip-address.ts';
import { BoundedMap } from '../../core/bounded-map.ts';

/** Wrong sign-ins that are free for each address and account; from then on each one doubles the wait. */
const FREE = 5;
/** A provider's network, or the many addresses of one line: they have more in common than one address, and less. */
const FREE_WIDE = 50;
const FIRST_WAIT_MS = 2000;
const LONGEST_WAIT_MS = 15 * 60_000;
const FORGET_MS = 60 * 60_000;
const MOST_KEPT = 20_000;
/** An address from which an account signed in is known to it for so long. */
const KNOWN_MS = 30 * 24 * 3_600_000;
const MOST_PLACES = 20;
const MOST_ACCOUNTS = 50_000;
/** A place that is used every few minutes is written down once in that time. */
const NOTED_EVERY_MS = 24 * 3_600_000;

/** `pair`: one account from one address. */
export type Guarded = 'address' | 'network' | 'account' | 'pair';

export interface GuardRecord {
  of: Guarded;
  /** An IPv4 address, an IPv6 network of 64 bits, a wider network, the name of an account, or `ACCOUNT from ADDRESS`. */
  name: string;
  /** Of an account that is a mailbox here. */
  domain: string | null;
  failures: number;
  /** When it may try again, and when it failed last; ms of the clock that is given. */
  until: number;
  last: number;
}

export interface KnownPlace {
  account: string;
  place: string;
  at: number;
}

/**
 * Slows down guessing (see docs/guide.md). What counts first is the address: from one, and from its network, wrong sign-ins wait longer and longer.
 * The account comes second, and only for addresses that have failed at it themselves; so nobody can keep an owner out by guessing. An address from
 * which the account signed in lately has a count of its own, which nobody else's guesses touch. All times in ms of one steady clock.
 */
export class SignInGuard {
  private readonly records = new Map<string, GuardRecord>();
  private readonly places = new BoundedMap<string, BoundedMap<string, number>>(MOST_ACCOUNTS);
  private changed = new Set<string>();
  private newPlaces: KnownPlace[] = [];

  /** How many ms this address and account still have to wait; 0 when they may try. */
  wait(address: string, account: string, now: number): number {
    const names = namesOf(address, account);
    const pair = this.records.get(keyOf('pair', names.pair));
    const waits = [pair];
    if (!this.isKnown(names, now)) {
      waits.push(this.records.get(keyOf('address', names.address)), this.records.get(keyOf('network', names.network)));
      if (pair && now - pair.last < FORGET_MS) waits.push(this.records.get(keyOf('account', names.account)));
    }
    return Math.max(0, ...waits.map((one) => (one?.until ?? 0) - now));
  }

  /** `domain` when the account is a mailbox here, the one that it is of. */
  failed(address: string, account: string, now: number, domain: string | null = null): void {
    const names = namesOf(address, account);
    const known = this.isKnown(names, now);
    this.count('pair', names.pair, FREE, now, domain);
    // What an owner mistypes at home is no reason to be wary of everybody there.
    if (known) return;
    this.count('address', names.address, FREE, now, null);
    this.count('network', names.network, FREE_WIDE, now, null);
    this.count('account', names.account, FREE, now, domain);
  }

  /** The right password: what this account did wrong from here is forgiven, and the address is known to it from now on. */
  succeeded(address: string, account: string, now: number): void {
    const names = namesOf(address, account);
    const pair = this.records.get(keyOf('pair', names.pair));
    if (pair) {
      // Who guesses at others from here gains nothing by an account of their own: only its own failures are taken back.
      for (const [of, name] of [
        ['address', names.address],
        ['network', names.network],
        ['account', names.account],
      ] as const)
        this.forgive(of, name, pair.failures);
      this.drop('pair', names.pair);
    }
    this.remember(names, now);
  }

  /** Who must wait now. */
  held(now: number): GuardRecord[] {
    return [...this.records.values()].filter((one) => one.until > now);
  }

  /** Forgets what an account, or an address, did wrong. */
  lift(name: string): void {
    const names = namesOf(name, name);
    for (const [key, one] of this.records)
      if (
        one.name === names.account ||
        one.name === names.address ||
        one.name === name ||
        one.name.startsWith(`${names.account} from `) ||
        one.name.endsWith(` from ${names.address}`)
      ) {
        this.records.delete(key);
        this.changed.add(key);
      }
  }

  /** Forgets every failure; known places stay. */
  beginAnew(): void {
    this.records.clear();
    this.changed.clear();
  }

  /** How many addresses and accounts are remembered. */
  get size(): number {
    return this.records.size;
  }

  /** What is to be written down since the last time: records as they are now (null: gone), and new places. */
  unsaved(): { records: { of: Guarded; name: string; record: GuardRecord | null }[]; places: KnownPlace[] } {
    const records = [...this.changed].map((key) => {
      const [of = 'pair', ...rest] = key.split(' ');
      return { of: of as Guarded, name: rest.join(' '), record: this.records.get(key) ?? null };
    });
    const places = this.newPlaces;
    this.changed = new Set();
    this.newPlaces = [];
    return { records, places };
  }

  /** Takes up what an earlier run wrote down; a clock that was set meanwhile makes nobody wait longer than the longest wait. */
  restore(records: readonly GuardRecord[], places: readonly KnownPlace[], now: number): void {
    for (const one of records) {
      const last = Math.min(one.last, now);
      this.records.set(keyOf(one.of, one.name), { ...one, last, until: Math.min(one.until, now + LONGEST_WAIT_MS) });
    }
    for (const { account, place, at } of places) this.placesOf(account).set(place, Math.min(at, now));
  }

  private isKnown({ account, address }: Names, now: number): boolean {
    const at = this.places.get(account)?.get(address);
    return at !== undefined && now - at < KNOWN_MS;
  }

  private remember({ account, address }: Names, now: number): void {
    const places = this.placesOf(account);
    const before = places.get(address);
    if (before !== undefined && now - before < NOTED_EVERY_MS) return;
    places.renew(address, now);
    this.newPlaces.push({ account, place: address, at: now });
  }

  private placesOf(account: string): BoundedMap<string, number> {
    let places = this.places.get(account);
    if (!places) {
      places = new BoundedMap(MOST_PLACES);
      this.places.set(account, places);
    }
    return places;
  }

  private count(of: Guarded, name: string, free: number, now: number, domain: string | null): void {
    const key = keyOf(of, name);
    const old = this.records.get(key);
    const failures = old && now - old.last < FORGET_MS ? old.failures + 1 : 1;
    const wait = failures > free ? Math.min(LONGEST_WAIT_MS, FIRST_WAIT_MS * 2 ** Math.min(20, failures - free - 1)) : 0;
    this.records.delete(key);
    this.records.set(key, { of, name, domain, failures, until: now + wait, last: now });
    if (wait > 0) this.changed.add(key);
    while (this.records.size > MOST_KEPT) {
      const oldest = this.records.keys().next().value ?? '';
      this.records.delete(oldest);
      this.changed.add(oldest);
    }
  }

  private forgive(of: Guarded, name: string, failures: number): void {
    const record = this.records.get(keyOf(of, name));
    if (!record) return;
    record.failures -= failures;
    if (record.failures <= 0) this.drop(of, name);
    else if (record.failures <= FREE) record.until = record.last;
    this.changed.add(keyOf(of, name));
  }

  private drop(of: Guarded, name: string): void {
    this.records.delete(keyOf(of, name));
    this.changed.add(keyOf(of, name));
  }
}

/** Whether a record is about that account, or that address. */
export function isAbout(record: GuardRecord, name: string): boolean {
  const names = namesOf(name, name);
  return record.name === names.account || record.name === names.address || record.name === name;
}

interface Names {
  address: string;
  network: string;
  account: string;
  pair: string;
}

function namesOf(address: string, account: string): Names {
  const from = whoseAddress(address);
  const as = account.toLowerCase().slice(0, 320);
  return { address: from, network: wideAddress(address), account: as, pair: `${as} from ${from}` };
}

const keyOf = (of: Guarded, name: string): string => `${of} ${name}`;
