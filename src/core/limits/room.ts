import type { Amounts, Quantity } from './amounts.ts';

const PIECE_BITS = 12;
const ACCOUNTS_PER_PIECE = 2 ** PIECE_BITS;
/** What is left of an account takes 16 octets: messages and sends as whole numbers of 32 bits, octets of text as a number of 64. */
const COUNTS = 4;
const NUMBERS = 2;
/** The places of the three in the views on it, and of what was measured. */
const SENDS = 1;
const BYTES = 1;
const PLACE: Record<Quantity, number> = { messages: 0, sends: 1, bytes: 2 };
const QUANTITIES = 3;
/** More is never said to be free: who needs more has it measured again. The same below nothing stands for an account that was not measured. */
const MOST_COUNTED = 2 ** 30;
const MOST_BYTES = 2 ** 50;

/** The figures of accounts whose numbers are close together, and the limits by which they were measured. */
interface Piece {
  /** What is free and promised to nobody: messages and sends, and in the same memory octets. */
  counts: Int32Array;
  bytes: Float64Array;
  /** What is free, promises not taken off. The difference is what is promised. */
  free: Float64Array;
  edition: number;
}

/**
 * What is promised to open sessions, and what is certainly free, of many accounts, which are found by their number alone. A question
 * reads 16 octets an account: those of 100,000 accounts are near the processor together, so it costs the same however many there are.
 *
 * `free` is what fits the limits still. Room only grows by itself, and shrinks by what is charged: so as long as it is enough, nothing
 * else of the account need be looked at. Numbers are whole, from 0, and close together, as of rows in a table.
 */
export class Room {
  private readonly pieces: Piece[] = [];

  /** Whether so much more certainly fits the limits of that edition. */
  fits(account: number, { messages, sends, bytes }: Amounts, edition: number): boolean {
    const piece = this.pieces[account >>> PIECE_BITS];
    if (piece?.edition !== edition) return false;
    const within = account & (ACCOUNTS_PER_PIECE - 1);
    return (
      (messages === 0 || messages <= (piece.counts[within * COUNTS] as number)) &&
      (sends === 0 || sends <= (piece.counts[within * COUNTS + SENDS] as number)) &&
      (bytes === 0 || bytes <= (piece.bytes[within * NUMBERS + BYTES] as number))
    );
  }

  /** So much more is promised, or less with a factor of -1. */
  promise(account: number, amounts: Amounts, factor: 1 | -1): void {
    take(this.piece(account), account & (ACCOUNTS_PER_PIECE - 1), amounts, factor);
  }

  promised(account: number, quantity: Quantity): number {
    const { free, counts, bytes } = this.piece(account);
    const within = account & (ACCOUNTS_PER_PIECE - 1);
    const left = quantity === 'bytes' ? bytes[within * NUMBERS + BYTES] : counts[within * COUNTS + PLACE[quantity]];
    return (free[within * QUANTITIES + PLACE[quantity]] as number) - (left as number);
  }

  isPromised(account: number): boolean {
    return (['messages', 'sends', 'bytes'] as const).some((quantity) => this.promised(account, quantity) !== 0);
  }

  /** So much was charged, and is free no longer. */
  charge(account: number, amounts: Amounts): void {
    const piece = this.piece(account);
    const within = account & (ACCOUNTS_PER_PIECE - 1);
    take(piece, within, amounts, 1);
    const at = within * QUANTITIES;
    piece.free[at] = (piece.free[at] as number) - amounts.messages;
    piece.free[at + 1] = (piece.free[at + 1] as number) - amounts.sends;
    piece.free[at + 2] = (piece.free[at + 2] as number) - amounts.bytes;
  }

  /** What was measured to be free by an edition of the limits. The first of a new edition ends what others were measured by the one before. */
  measured(account: number, free: Amounts, edition: number): void {
    const piece = this.piece(account);
    if (piece.edition !== edition) {
      for (let within = 0; within < ACCOUNTS_PER_PIECE; within += 1) write(piece, within, UNKNOWN);
      piece.edition = edition;
    }
    write(piece, account & (ACCOUNTS_PER_PIECE - 1), free);
  }

  /** Nothing is known to be free any more; promises stay. */
  forget(account: number): void {
    write(this.piece(account), account & (ACCOUNTS_PER_PIECE - 1), UNKNOWN);
  }

  private piece(account: number): Piece {
    const number = account >>> PIECE_BITS;
    const found = this.pieces[number];
    if (found) return found;
    const memory = new ArrayBuffer(ACCOUNTS_PER_PIECE * COUNTS * Int32Array.BYTES_PER_ELEMENT);
    const made: Piece = {
      counts: new Int32Array(memory),
      bytes: new Float64Array(memory),
      free: new Float64Array(ACCOUNTS_PER_PIECE * QUANTITIES),
      edition: Number.NaN,
    };
    this.pieces[number] = made;
    return made;
  }
}

const UNKNOWN: Amounts = { messages: -MOST_COUNTED, sends: -MOST_COUNTED, bytes: -MOST_BYTES };

/** Takes so much off what is left. */
function take({ counts, bytes }: Piece, within: number, amounts: Amounts, factor: 1 | -1): void {
  const at = within * COUNTS;
  counts[at] = (counts[at] as number) - factor * amounts.messages;
  counts[at + SENDS] = (counts[at + SENDS] as number) - factor * amounts.sends;
  const octets = within * NUMBERS + BYTES;
  bytes[octets] = (bytes[octets] as number) - factor * amounts.bytes;
}

/** Writes down what is free, and keeps what is promised. */
function write({ counts, bytes, free }: Piece, within: number, { messages, sends, bytes: octets }: Amounts): void {
  const measured = within * QUANTITIES;
  const freeMessages = Math.min(messages, MOST_COUNTED);
  const freeSends = Math.min(sends, MOST_COUNTED);
  const freeBytes = Math.min(octets, MOST_BYTES);
  const at = within * COUNTS;
  counts[at] = freeMessages - ((free[measured] as number) - (counts[at] as number));
  counts[at + SENDS] = freeSends - ((free[measured + 1] as number) - (counts[at + SENDS] as number));
  const left = within * NUMBERS + BYTES;
  bytes[left] = freeBytes - ((free[measured + 2] as number) - (bytes[left] as number));
  free[measured] = freeMessages;
  free[measured + 1] = freeSends;
  free[measured + 2] = freeBytes;
}
