const HOUR = 3_600_000;
/** Reports that leave for one address, and for all addresses outside, within an hour. */
const MOST_TO_ONE = 20;
const MOST_TO_ALL = 1000;
const MOST_KEPT = 20_000;

/**
 * Bounds the reports that leave for the outside: whoever makes this server write to others by what it sends here, can't make it write without end.
 * Reports into mailboxes here have their owners' quotas.
 */
export class ReportLimit {
  private begun = 0;
  private all = 0;
  private readonly sent = new Map<string, number>();

  /** Counts one more report to an address outside; false when there were enough within the hour. `now` by the steady clock. */
  take(address: string, now: number): boolean {
    if (now - this.begun >= HOUR) {
      this.begun = now;
      this.all = 0;
      this.sent.clear();
    }
    const key = address.toLowerCase();
    const count = this.sent.get(key) ?? 0;
    if (count >= MOST_TO_ONE || this.all >= MOST_TO_ALL || this.sent.size >= MOST_KEPT) return false;
    this.sent.set(key, count + 1);
    this.all += 1;
    return true;
  }
}
