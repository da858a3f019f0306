import { QUANTITIES, type Quantity } from '../vocabulary.ts';
import type { Amounts } from './amounts.ts';

/** What is left of an account takes 16 octets: messages and sends as whole numbers of 32 bits, octets of text as a number of 64. */
const COUNTS = 4;
const NUMBERS = 2;
/** The places of the three in the views on it, and of what was measured. */
const SENDS = 1;
const BYTES = 1;
const PLACE: Record<Quantity, number> = { messages: 0, sends: 1, bytes: 2 };
const KINDS = 3;
/** Accounts that were measured by the same edition of the limits, or not at all. */
const BLOCK_BITS = 10;
const BLOCK = 2 ** BLOCK_BITS;
const NO_EDITION = -1;
/** More is never said to be free: who needs more has it measured again. The same below nothing stands for what was not measured. */
const MOST_COUNTED = 2 ** 30;
const MOST_BYTES = 2 ** 50;
const UNKNOWN: Amounts = { messages: -MOST_COUNTED, sends: -MOST_COUNTED, bytes: -MOST_BYTES };

/**
 * What is promised to open sessions, and what is certainly free, of many accounts, which are found by their number alone. A question
 * reads 16 octets an account: those of 100,000 accounts are near the processor together, so it costs the same however many there are.
 *
 * `free` is what fits the limits still. Room only grows by itself, and shrinks by what is charged: so as long as it is enough, nothing
 * else of the account need be looked at. Numbers are whole, from 0, and close together, as of rows in a table.
 */
export class Room {
  private size = 0;
  /** What is free and promised to nobody: messages and sends, and in the same memory octets. */
  private counts = new Int32Array(0);
  private bytes = new Float64Array(0);
  /** What is free, promises not taken off. The difference is what is promised. */
  private free = new Float64Array(0);
  /** By which edition of the limits each block was measured. */
  private editions = new Int32Array(0);

  /** Whether so much more certainly fits the limits of that edition. */
  fits(account: number, { messages, sends, bytes }: Amounts, edition: number): boolean {
    return (
      this.editions[account >>> BLOCK_BITS] === edition &&
      (messages === 0 || messages <= (this.counts[account * COUNTS] as number)) &&
      (sends === 0 || sends <= (this.counts[account * COUNTS + SENDS] as number)) &&
      (bytes === 0 || bytes <= (this.bytes[account * NUMBERS + BYTES] as number))
    );
  }

  /** How many more sends fit, if that is still known; `fits` tells. */
  sendsLeft(account: number): number {
    return this.counts[account * COUNTS + SENDS] ?? 0;
  }

  /** So much more is promised, or less with a factor of -1. */
  promise(account: number, amounts: Amounts, factor: 1 | -1): void {
    if (account >= this.size) this.grow(account);
    const { counts, bytes } = this;
    const at = account * COUNTS;
    counts[at] = (counts[at] as number) - factor * amounts.messages;
    counts[at + SENDS] = (counts[at + SENDS] as number) - factor * amounts.sends;
    const octets = account * NUMBERS + BYTES;
    bytes[octets] = (bytes[octets] as number) - factor * amounts.bytes;
  }

  promised(account: number, quantity: Quantity): number {
    if (account >= this.size) return 0;
    const left = quantity === 'bytes' ? this.bytes[account * NUMBERS + BYTES] : this.counts[account * COUNTS + PLACE[quantity]];
    return (this.free[account * KINDS + PLACE[quantity]] as number) - (left as number);
  }

  isPromised(account: number): boolean {
    return QUANTITIES.some((quantity) => this.promised(account, quantity) !== 0);
  }

  /** So much was charged, and is free no longer. */
  charge(account: number, amounts: Amounts): void {
    this.promise(account, amounts, 1);
    const { free } = this;
    const at = account * KINDS;
    free[at] = (free[at] as number) - amounts.messages;
    free[at + 1] = (free[at + 1] as number) - amounts.sends;
    free[at + 2] = (free[at + 2] as number) - amounts.bytes;
  }

  /** What was measured to be free by an edition of the limits. What was measured beside it by another one ends. */
  measured(account: number, free: Amounts, edition: number): void {
    if (account >= this.size) this.grow(account);
    const block = account >>> BLOCK_BITS;
    if (this.editions[block] !== edition) {
      for (let one = block * BLOCK; one < (block + 1) * BLOCK; one += 1) this.write(one, UNKNOWN);
      this.editions[block] = edition;
    }
    this.write(account, free);
  }

  /** Nothing is known to be free any more; promises stay. */
  forget(account: number): void {
    if (account < this.size) this.write(account, UNKNOWN);
  }

  /** Writes down what is free, and keeps what is promised. */
  private write(account: number, { messages, sends, bytes: octets }: Amounts): void {
    const { counts, bytes, free } = this;
    const measured = account * KINDS;
    const at = account * COUNTS;
    const left = account * NUMBERS + BYTES;
    const [freeMessages, freeSends, freeBytes] = [
      Math.min(messages, MOST_COUNTED),
      Math.min(sends, MOST_COUNTED),
      Math.min(octets, MOST_BYTES),
    ];
    counts[at] = freeMessages - ((free[measured] as number) - (counts[at] as number));
    counts[at + SENDS] = freeSends - ((free[measured + 1] as number) - (counts[at + SENDS] as number));
    bytes[left] = freeBytes - ((free[measured + 2] as number) - (bytes[left] as number));
    free[measured] = freeMessages;
    free[measured + 1] = freeSends;
    free[measured + 2] = freeBytes;
  }

  private grow(account: number): void {
    const { counts, free, editions } = this;
    const blocks = Math.max(2 * editions.length, (account >>> BLOCK_BITS) + 1);
    this.size = blocks * BLOCK;
    const memory = new ArrayBuffer(this.size * COUNTS * Int32Array.BYTES_PER_ELEMENT);
    this.counts = new Int32Array(memory);
    this.bytes = new Float64Array(memory);
    new Uint8Array(memory).set(new Uint8Array(counts.buffer));
    this.free = new Float64Array(this.size * KINDS);
    this.free.set(free);
    this.editions = new Int32Array(blocks).fill(NO_EDITION);
    this.editions.set(editions);
  }
}
