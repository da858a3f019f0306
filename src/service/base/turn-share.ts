/** What one turn may take, ms: with all else that waits, it stays below fifty. */
const TURN_MS = 15;

/** How many things of one kind are done in one turn: as many as fit into it, by what the turns before took. `now` in ms. */
export class TurnShare {
  private size: number;

  constructor(
    private readonly most: number,
    private readonly least: number,
    private readonly now: () => number = () => performance.now(),
  ) {
    this.size = least;
  }

  /** Does a share of the work, which says how many it did; whether there is more. */
  do(work: (most: number) => number): boolean {
    const { size } = this;
    const begun = this.now();
    const done = work(size);
    const took = this.now() - begun;
    if (done < size) return false;
    // At most twice as many: one turn may have been a lucky one.
    const fitting = took > 0 ? Math.floor((size * TURN_MS) / took) : this.most;
    this.size = Math.max(this.least, Math.min(this.most, fitting, size * 2));
    return true;
  }
}
