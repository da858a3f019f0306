/** Wrong sign-ins that are free for each address and account; from then on each one doubles the wait. */
const FREE = 5;
const FIRST_WAIT_MS = 2000;
const LONGEST_WAIT_MS = 15 * 60_000;
const FORGET_MS = 60 * 60_000;
const MOST_KEPT = 20_000;

interface Record {
  failures: number;
  until: number;
  last: number;
}

/** Slows down guessing, for each client address and each account apart (see docs/guide.md). */
export class SignInGuard {
  private readonly records = new Map<string, Record>();

  /** How many ms this address or account still has to wait; 0 when it may try. */
  wait(address: string, account: string, now: number): number {
    return Math.max(0, ...this.keys(address, account).map((key) => (this.records.get(key)?.until ?? 0) - now));
  }

  failed(address: string, account: string, now: number): void {
    for (const key of this.keys(address, account)) {
      const old = this.records.get(key);
      const failures = old && now - old.last < FORGET_MS ? old.failures + 1 : 1;
      const wait = failures > FREE ? Math.min(LONGEST_WAIT_MS, FIRST_WAIT_MS * 2 ** (failures - FREE - 1)) : 0;
      this.records.delete(key);
      this.records.set(key, { failures, until: now + wait, last: now });
    }
    while (this.records.size > MOST_KEPT) this.records.delete(this.records.keys().next().value ?? '');
  }

  succeeded(address: string, account: string): void {
    for (const key of this.keys(address, account)) this.records.delete(key);
  }

  /** How many addresses and accounts are remembered. */
  get size(): number {
    return this.records.size;
  }

  private keys(address: string, account: string): string[] {
    return [`from ${address}`, `as ${account.toLowerCase().slice(0, 320)}`];
  }
}
