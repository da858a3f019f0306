import type { Amounts, Quantity } from './amounts.ts';

/** Of each account: promised, and free, of the three quantities; which edition of its limits `free` was measured by, and until when that holds. */
const FIGURES = 8;
const FREE = 3;
const EDITION = 6;
const UNTIL = 7;
const PLACE: Record<Quantity, number> = { messages: 0, sends: 1, bytes: 2 };
const ACCOUNTS_PER_PIECE = 4096;
/** An array of that size begins 16 octets into a page of memory; with these left out, the figures of an account are one line of 64 octets. */
const LEFT_OUT = 6;

const placeOf = (account: number): number => LEFT_OUT + (account % ACCOUNTS_PER_PIECE) * FIGURES;

/**
 * What is promised to open sessions, and what is certainly free, of many accounts. An account's figures stand side by side, one line of
 * the processor's memory, and are found by its number alone: so a question costs the same however many accounts there are.
 *
 * `free` is what fits the limits still, promises not yet taken off. Room only grows by itself, and shrinks by what is charged: so as long
 * as it is enough, nothing else of the account need be looked at. Numbers are whole, from 0, and close together, as of rows in a table.
 */
export class Room {
  private readonly pieces: Float64Array[] = [];

  /** Whether so much more certainly fits the limits of that edition, at that time. */
  fits(account: number, asked: Amounts, edition: number, now: number): boolean {
    const piece = this.pieces[Math.floor(account / ACCOUNTS_PER_PIECE)];
    if (!piece) return false;
    const at = placeOf(account);
    return (
      piece[at + EDITION] === edition &&
      (piece[at + UNTIL] as number) > now &&
      (asked.messages === 0 || (piece[at] as number) + asked.messages <= (piece[at + FREE] as number)) &&
      (asked.sends === 0 || (piece[at + 1] as number) + asked.sends <= (piece[at + FREE + 1] as number)) &&
      (asked.bytes === 0 || (piece[at + 2] as number) + asked.bytes <= (piece[at + FREE + 2] as number))
    );
  }

  /** So much more is promised, or less with a factor of -1. */
  promise(account: number, amounts: Amounts, factor: 1 | -1): void {
    const piece = this.piece(account);
    const at = placeOf(account);
    piece[at] = (piece[at] as number) + factor * amounts.messages;
    piece[at + 1] = (piece[at + 1] as number) + factor * amounts.sends;
    piece[at + 2] = (piece[at + 2] as number) + factor * amounts.bytes;
  }

  promised(account: number, quantity: Quantity): number {
    return this.piece(account)[placeOf(account) + PLACE[quantity]] as number;
  }

  isPromised(account: number): boolean {
    return (['messages', 'sends', 'bytes'] as const).some((quantity) => this.promised(account, quantity) !== 0);
  }

  /** So much was charged, and is free no longer. */
  charge(account: number, { messages, sends, bytes }: Amounts): void {
    const piece = this.piece(account);
    const at = placeOf(account) + FREE;
    piece[at] = (piece[at] as number) - messages;
    piece[at + 1] = (piece[at + 1] as number) - sends;
    piece[at + 2] = (piece[at + 2] as number) - bytes;
  }

  /** What was measured to be free by an edition of the limits, and until when that holds. */
  measured(account: number, { messages, sends, bytes }: Amounts, edition: number, until: number): void {
    this.piece(account).set([messages, sends, bytes, edition, until], placeOf(account) + FREE);
  }

  /** Nothing is known to be free any more; promises stay. */
  forget(account: number): void {
    this.piece(account)[placeOf(account) + UNTIL] = Number.NEGATIVE_INFINITY;
  }

  private piece(account: number): Float64Array {
    const number = Math.floor(account / ACCOUNTS_PER_PIECE);
    const found = this.pieces[number];
    if (found) return found;
    const made = new Float64Array(ACCOUNTS_PER_PIECE * FIGURES + LEFT_OUT);
    for (let at = LEFT_OUT + UNTIL; at < made.length; at += FIGURES) made[at] = Number.NEGATIVE_INFINITY;
    this.pieces[number] = made;
    return made;
  }
}
