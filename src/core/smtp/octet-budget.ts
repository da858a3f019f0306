/** What one conversation holds of the octets that all have together. */
export interface OctetAccount {
  /** Asks to hold so many octets from now on; false when there is no room for more than are held already. Less is always granted. */
  resize(octets: number): boolean;
}

interface Holder {
  octets: number;
  /** When it last asked for more, in ms. */
  grewAt: number;
  giveUp: () => void;
}

/** Who has not got on for so long gives way to who needs the room. */
const STALE_MS = 10_000;
/** Smaller holders are not worth being pushed out. */
const WORTH_IT = 512 * 1024;

/**
 * Bounds the octets of messages that are under way, over all conversations and from the first one on. When all are in use, the one that has been
 * standing still the longest gives up its message, so that nobody keeps others out by stopping in the middle. `now` in ms; only differences count.
 */
export class OctetBudget {
  private readonly holders = new Set<Holder>();
  private total = 0;

  constructor(
    readonly most: number,
    private readonly now: () => number,
  ) {}

  get used(): number {
    return this.total;
  }

  /** An account for one conversation; `giveUp` is called when its message must go, and the account is empty then. */
  open(giveUp: () => void): OctetAccount {
    const holder: Holder = { octets: 0, grewAt: 0, giveUp };
    return { resize: (octets) => this.resize(holder, octets) };
  }

  private resize(holder: Holder, octets: number): boolean {
    const more = octets - holder.octets;
    if (more > 0) {
      if (!this.makeRoom(more, holder)) return false;
      holder.grewAt = this.now();
    }
    this.total += more;
    holder.octets = octets;
    if (octets === 0) this.holders.delete(holder);
    else this.holders.add(holder);
    return true;
  }

  private makeRoom(more: number, asking: Holder): boolean {
    while (this.total + more > this.most) {
      let stalest: Holder | null = null;
      for (const one of this.holders)
        if (one !== asking && one.octets >= WORTH_IT && (stalest === null || one.grewAt < stalest.grewAt)) stalest = one;
      if (stalest === null || this.now() - stalest.grewAt < STALE_MS) return false;
      this.total -= stalest.octets;
      stalest.octets = 0;
      this.holders.delete(stalest);
      stalest.giveUp();
    }
    return true;
  }
}

/** For conversations that nobody else shares memory with. */
export const UNBOUNDED: OctetAccount = { resize: () => true };
