import type { Mark } from './mailroom.ts';

const FIRST_ROOM = 64;
/** Different sets of keywords in one folder: more than any mail program makes; what is beyond is shown without its keywords. */
const MOST_SETS = 10_000;

/** The marks of a folder's messages in the order of their UIDs; a message takes some twenty octets, however many there are. */
export class MarkTable {
  private uids = new Uint32Array(FIRST_ROOM);
  private modseqs = new Float64Array(FIRST_ROOM);
  private flags = new Uint8Array(FIRST_ROOM);
  private keywords = new Uint16Array(FIRST_ROOM);
  /** Sets of keywords, each once: messages have its place. */
  private readonly sets: string[] = [''];
  private readonly places = new Map<string, number>([['', 0]]);
  length = 0;

  /** All keywords that were ever seen. */
  get allKeywords(): string[] {
    return [...new Set(this.sets.flatMap((one) => (one === '' ? [] : one.split(' '))))];
  }

  uidAt(at: number): number {
    return this.uids[at] as number;
  }

  at(at: number): Mark {
    return {
      uid: this.uids[at] as number,
      modseq: this.modseqs[at] as number,
      flags: this.flags[at] as number,
      keywords: this.sets[this.keywords[at] as number] as string,
    };
  }

  /** The place of the first message with that UID or a higher one. */
  placeFrom(uid: number): number {
    let [low, high] = [0, this.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if ((this.uids[middle] as number) < uid) low = middle + 1;
      else high = middle;
    }
    return low;
  }

  append(mark: Mark): void {
    if (this.length === this.uids.length) this.grow();
    this.length += 1;
    this.set(this.length - 1, mark);
  }

  set(at: number, { uid, modseq, flags, keywords }: Mark): void {
    this.uids[at] = uid;
    this.modseqs[at] = modseq;
    this.flags[at] = flags;
    this.keywords[at] = this.setOf(keywords);
  }

  /** Keeps only some, in their order. */
  keep(isKept: (at: number) => boolean): void {
    let kept = 0;
    for (let at = 0; at < this.length; at += 1) {
      if (!isKept(at)) continue;
      if (kept < at) {
        this.uids[kept] = this.uids[at] as number;
        this.modseqs[kept] = this.modseqs[at] as number;
        this.flags[kept] = this.flags[at] as number;
        this.keywords[kept] = this.keywords[at] as number;
      }
      kept += 1;
    }
    this.length = kept;
  }

  private grow(): void {
    const room = this.uids.length * 2;
    const larger = <T extends Uint32Array | Float64Array | Uint8Array | Uint16Array>(made: T, old: T): T => {
      made.set(old);
      return made;
    };
    this.uids = larger(new Uint32Array(room), this.uids);
    this.modseqs = larger(new Float64Array(room), this.modseqs);
    this.flags = larger(new Uint8Array(room), this.flags);
    this.keywords = larger(new Uint16Array(room), this.keywords);
  }

  private setOf(keywords: string): number {
    const place = this.places.get(keywords);
    if (place !== undefined) return place;
    if (this.sets.length >= MOST_SETS) return 0;
    this.sets.push(keywords);
    this.places.set(keywords, this.sets.length - 1);
    return this.sets.length - 1;
  }
}
