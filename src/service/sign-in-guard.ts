import { whoseAddress } from '../core/address/ip-address.ts';

/** Wrong sign-ins that are free for each address and account; from then on each one doubles the wait. */
const FREE = 5;
const FIRST_WAIT_MS = 2000;
const LONGEST_WAIT_MS = 15 * 60_000;
const FORGET_MS = 60 * 60_000;
const MOST_KEPT = 20_000;

export interface GuardRecord {
  of: 'address' | 'account';
  /** An IPv4 address, an IPv6 network of 64 bits, or the name of an account. */
  name: string;
  /** Of an account that is a mailbox here. */
  domain: string | null;
  failures: number;
  /** When it may try again. */
  until: number;
  last: number;
}

/** Slows down guessing, for each client address and each account apart (see docs/guide.md). */
export class SignInGuard {
  private readonly records = new Map<string, GuardRecord>();

  /** How many ms this address or account still has to wait; 0 when it may try. */
  wait(address: string, account: string, now: number): number {
    return Math.max(0, ...keysOf(address, account).map(({ key }) => (this.records.get(key)?.until ?? 0) - now));
  }

  /** `domain` when the account is a mailbox here, the one that it is of. */
  failed(address: string, account: string, now: number, domain: string | null = null): void {
    for (const { key, of, name } of keysOf(address, account)) {
      const old = this.records.get(key);
      const failures = old && now - old.last < FORGET_MS ? old.failures + 1 : 1;
      const wait = failures > FREE ? Math.min(LONGEST_WAIT_MS, FIRST_WAIT_MS * 2 ** (failures - FREE - 1)) : 0;
      this.records.delete(key);
      this.records.set(key, { of, name, domain: of === 'account' ? domain : null, failures, until: now + wait, last: now });
    }
    while (this.records.size > MOST_KEPT) this.records.delete(this.records.keys().next().value ?? '');
  }

  succeeded(address: string, account: string): void {
    for (const { key } of keysOf(address, account)) this.records.delete(key);
  }

  /** Who must wait now. */
  held(now: number): GuardRecord[] {
    return [...this.records.values()].filter((one) => one.until > now);
  }

  /** Forgets what an account, or an address, did wrong. */
  lift(name: string): void {
    this.succeeded(name, name);
  }

  /** How many addresses and accounts are remembered. */
  get size(): number {
    return this.records.size;
  }
}

/** Whether a record is about that account, or that address. */
export const isAbout = (record: GuardRecord, name: string): boolean =>
  keysOf(name, name).some((one) => one.of === record.of && one.name === record.name);

function keysOf(address: string, account: string): { key: string; of: GuardRecord['of']; name: string }[] {
  const from = whoseAddress(address);
  const as = account.toLowerCase().slice(0, 320);
  return [
    { key: `from ${from}`, of: 'address', name: from },
    { key: `as ${as}`, of: 'account', name: as },
  ];
}
