const SECOND = 1000;
const FIRST_REST = 5 * SECOND;
const LONGEST_REST = 10 * 60 * SECOND;
/** What was too much once is tried again after this. */
const FORGIVEN_AFTER = 10 * 60 * SECOND;

/**
 * How hard one destination is pressed: connections at once, and rests between attempts. A server that is busy or gone is pressed less,
 * and one that takes mail again is soon pressed as before.
 */
export class Pace {
  private allowed: number;
  /** As many as it is trusted to bear: fewer than it had when it last made trouble. */
  private bearable: number;
  private troubledAt = Number.NEGATIVE_INFINITY;
  private troubles = 0;
  private restUntil = 0;

  /** `first`: how many are allowed before anything is known of it. */
  constructor(
    private readonly most: number,
    private readonly first = most,
  ) {
    this.allowed = first;
    this.bearable = most;
  }

  /** Whether one more connection may be made while `open` are. */
  mayBegin(open: number, now: number): boolean {
    return open < this.allowed && now >= this.restUntil;
  }

  /** When the rest ends; 0 when there is none. */
  restsUntil(now: number): number {
    return this.restUntil > now ? this.restUntil : 0;
  }

  /** `busy`: everything was put off (4xx); `away`: no connection, or 421. */
  attemptEnded(how: 'good' | 'busy' | 'away', now: number): void {
    if (how === 'good') {
      if (now - this.troubledAt >= FORGIVEN_AFTER) this.bearable = this.most;
      this.allowed = Math.min(this.bearable, this.allowed + 1);
      this.troubles = 0;
      this.restUntil = 0;
      return;
    }
    this.troubledAt = now;
    this.bearable = Math.max(this.first, Math.min(this.bearable, this.allowed - 1));
    this.allowed = Math.max(1, Math.floor(this.allowed / 2));
    if (how === 'busy') return;
    this.restUntil = now + Math.min(LONGEST_REST, FIRST_REST * 2 ** this.troubles);
    this.troubles = Math.min(this.troubles + 1, 20);
  }

  /** Somebody wants to know now. */
  wake(): void {
    this.restUntil = 0;
  }

  get isUsual(): boolean {
    return this.allowed >= this.first && this.restUntil === 0;
  }
}
