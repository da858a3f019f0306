export const HOUR = 3_600_000;
export const DAY = 24 * HOUR;

/**
 * The sends of one domain in the last day, for exact sliding sums.
 * Holds accepted sends (with their time) and the reservations of open sessions. Times are milliseconds of the ledger's clock.
 */
export class SendWindow {
  private times: number[] = [];
  private counts: number[] = [];
  private first = 0;
  private firstInHour = 0;
  private inHour = 0;
  private inDay = 0;
  reserved = 0;

  /** Adds accepted sends. A time before the newest one (a clock step) counts as the newest, so a window never shrinks by it. */
  add(at: number, sends: number): void {
    const last = this.times.length - 1;
    const time = last >= this.first ? Math.max(at, this.times[last] ?? at) : at;
    if (last >= this.first && this.times[last] === time) this.counts[last] = (this.counts[last] ?? 0) + sends;
    else {
      this.times.push(time);
      this.counts.push(sends);
    }
    this.inHour += sends;
    this.inDay += sends;
  }

  /** What counts at `now`: sends in (now − 1 h, now] and (now − 24 h, now], entries of the future included. */
  used(now: number): { hour: number; day: number } {
    this.firstInHour = Math.max(this.firstInHour, this.first);
    while (this.firstInHour < this.times.length && (this.times[this.firstInHour] ?? 0) <= now - HOUR) {
      this.inHour -= this.counts[this.firstInHour] ?? 0;
      this.firstInHour += 1;
    }
    while (this.first < this.times.length && (this.times[this.first] ?? 0) <= now - DAY) {
      this.inDay -= this.counts[this.first] ?? 0;
      this.first += 1;
    }
    if (this.first > 1024 && this.first * 2 > this.times.length) {
      this.times = this.times.slice(this.first);
      this.counts = this.counts.slice(this.first);
      this.firstInHour -= this.first;
      this.first = 0;
    }
    return { hour: this.inHour, day: this.inDay };
  }

  /** The moment at which enough of the oldest sends have left the window of `length` ms that at most `most` remain; null if never needed. */
  whenAtMost(most: number, length: number, now: number): number | null {
    const { hour, day } = this.used(now);
    let remaining = length === HOUR ? hour : day;
    if (remaining <= most) return now;
    for (let at = length === HOUR ? this.firstInHour : this.first; at < this.times.length; at += 1) {
      remaining -= this.counts[at] ?? 0;
      if (remaining <= most) return (this.times[at] ?? 0) + length;
    }
    return null;
  }
}
