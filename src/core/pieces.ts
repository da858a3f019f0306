/** Octets that are worked on in one turn: a few milliseconds' worth. */
const PIECE = 256 * 1024;

/** Lets everything else have a turn; resolves after it. */
export type Breathe = () => Promise<void>;

export const breathe: Breathe = () => new Promise((resolve) => setImmediate(resolve));

/** Gives `take` a large text piece by piece, with a breath between two of them. What is small goes at once. */
export async function inPieces(octets: Buffer, take: (piece: Buffer) => void, pause: Breathe = breathe): Promise<void> {
  for (let at = 0; at < octets.length || at === 0; at += PIECE) {
    if (at > 0) await pause();
    take(octets.subarray(at, at + PIECE));
  }
}

/** Steps of a long computation that are done in one turn: a few milliseconds' worth. */
const STEPS = 8000;

/** Counts the steps of a long computation, and lets everything else have a turn now and then. */
export class Turns {
  private left = STEPS;

  constructor(private readonly pause: Breathe = breathe) {}

  /** Counts; whether it is time for `next`. */
  isOver(steps = 1): boolean {
    this.left -= steps;
    return this.left <= 0;
  }

  async next(): Promise<void> {
    this.left = STEPS;
    await this.pause();
  }
}

/** What is put in order in one turn. */
const A_RUN = 4000;

/** Puts things in order, in runs, so that very many hold up nobody else; those that are alike stay as they are. */
export async function orderedInPieces<Item>(
  all: readonly Item[],
  compare: (one: Item, other: Item) => number,
  pause: Breathe = breathe,
): Promise<Item[]> {
  let runs: Item[][] = [];
  for (let at = 0; at < all.length; at += A_RUN) {
    if (at > 0) await pause();
    runs.push(all.slice(at, at + A_RUN).sort(compare));
  }
  while (runs.length > 1) {
    const next: Item[][] = [];
    for (let at = 0; at < runs.length; at += 2) next.push(await merged(runs[at] ?? [], runs[at + 1] ?? [], compare, pause));
    runs = next;
  }
  return runs[0] ?? [];
}

async function merged<Item>(
  first: readonly Item[],
  second: readonly Item[],
  compare: (one: Item, other: Item) => number,
  pause: Breathe,
): Promise<Item[]> {
  const all: Item[] = [];
  for (let [a, b] = [0, 0]; a < first.length || b < second.length; ) {
    const isFirst = b >= second.length || (a < first.length && compare(first[a] as Item, second[b] as Item) <= 0);
    all.push((isFirst ? first[a] : second[b]) as Item);
    if (isFirst) a += 1;
    else b += 1;
    if (all.length % (8 * A_RUN) === 0) await pause();
  }
  return all;
}
