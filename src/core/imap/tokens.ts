import type { Range } from '../mailbox/uid-set.ts';

/** The command is not written as the RFC says; the words are for the client's log. */
export class SyntaxFault extends Error {}

/** A piece of a command: text between literals as latin1, or a literal's octets. */
export type Piece = string | Buffer;

const MOST_LISTED = 20_000;
/** Greater than any UID. */
export const STAR = 0xffff_ffff + 1;

/** Reads the words of a command one after the other (RFC 3501 §9, RFC 9051 §9). Each method reads what it is named for or throws SyntaxFault. */
export class Tokens {
  private piece = 0;
  private at = 0;

  constructor(private readonly pieces: readonly Piece[]) {}

  private get text(): string {
    const piece = this.pieces[this.piece];
    return typeof piece === 'string' ? piece : '';
  }

  get isAtEnd(): boolean {
    return (
      this.piece >= this.pieces.length ||
      (this.piece === this.pieces.length - 1 && typeof this.pieces[this.piece] === 'string' && this.at >= this.text.length)
    );
  }

  /** The next letter, without reading it; empty before a literal and at the end. */
  peek(): string {
    return this.text.charAt(this.at);
  }

  end(): void {
    if (!this.isAtEnd) throw new SyntaxFault('Too many words');
  }

  space(): void {
    if (this.peek() !== ' ') throw new SyntaxFault(this.isAtEnd ? 'Something is missing at the end' : 'A space is missing');
    this.at += 1;
  }

  /** Reads that if it comes next; words in any case. */
  take(what: string): boolean {
    if (this.text.slice(this.at, this.at + what.length).toUpperCase() !== what) return false;
    this.at += what.length;
    return true;
  }

  expect(what: string): void {
    if (!this.take(what)) throw new SyntaxFault(`${what} is missing`);
  }

  /** Reads what fits at this place; the pattern is sticky. */
  match(pattern: RegExp): string | null {
    pattern.lastIndex = this.at;
    const found = pattern.exec(this.text)?.[0] ?? null;
    if (found !== null) this.at += found.length;
    return found;
  }

  /** An atom, in capitals: the name of something. */
  word(): string {
    const found = this.match(/[!#$&'+-[^-z|}~]+/y);
    if (found === null) throw new SyntaxFault('A word is missing');
    return found.toUpperCase();
  }

  number(): number {
    const found = this.match(/\d{1,10}/y);
    if (found === null || Number(found) > 0xffff_ffff) throw new SyntaxFault('A number is missing');
    return Number(found);
  }

  /** RFC 7162 §7: 63 bits; beyond what a number holds there is nothing here. */
  modseq(): number {
    const found = this.match(/\d{1,19}/y);
    if (found === null) throw new SyntaxFault('A mod-sequence is missing');
    return Math.min(Number(found), Number.MAX_SAFE_INTEGER);
  }

  /** A string in quotes or a literal: its octets. */
  octets(): Buffer {
    const literal = this.literal();
    if (literal) return literal;
    if (this.peek() !== '"') throw new SyntaxFault('A string is missing');
    let text = '';
    let at = this.at + 1;
    for (;;) {
      const letter = this.text.charAt(at);
      if (letter === '' || letter === '\r' || letter === '\n') throw new SyntaxFault('A quote is not closed');
      if (letter === '"') break;
      if (letter === '\\') at += 1;
      text += this.text.charAt(at);
      at += 1;
    }
    this.at = at + 1;
    return Buffer.from(text, 'latin1');
  }

  /** A literal, if it comes next. */
  literal(): Buffer | null {
    if (this.at < this.text.length) return null;
    const next = typeof this.pieces[this.piece] === 'string' ? this.piece + 1 : this.piece;
    const piece = this.pieces[next];
    if (!(piece instanceof Buffer)) return null;
    this.piece = next + 1;
    this.at = 0;
    return piece;
  }

  /** An astring (RFC 3501 §9): an atom that may hold `]`, or a string. */
  astring(): Buffer {
    const found = this.match(/[!#$&'+-[\]^-z|}~\x80-\xff]+/y);
    return found === null ? this.octets() : Buffer.from(found, 'latin1');
  }

  /** An astring as UTF-8. */
  astringText(): string {
    return this.astring().toString('utf8');
  }

  /** A list-mailbox: an astring with wildcards. */
  pattern(): string {
    const found = this.match(/[!#-'*+-[\]^-z|}~\x80-\xff]+/y);
    return found === null ? this.octets().toString('utf8') : Buffer.from(found, 'latin1').toString('utf8');
  }

  nstring(): Buffer | null {
    return this.take('NIL') ? null : this.octets();
  }

  /** Things in parentheses with a space between each two; `mayBeEmpty` says what the RFC says. */
  list<T>(read: () => T, mayBeEmpty = false): T[] {
    this.expect('(');
    const all: T[] = [];
    if (mayBeEmpty && this.take(')')) return all;
    for (;;) {
      all.push(read());
      if (all.length > MOST_LISTED) throw new SyntaxFault('The list is too long');
      if (this.take(')')) return all;
      this.space();
    }
  }

  /** Flags and keywords in parentheses, or without (RFC 3501, STORE). */
  flags(): string[] {
    const flag = (): string => {
      const found = this.match(/\\?[!#$&'+-[^-z|}~]+/y);
      if (found === null) throw new SyntaxFault('A flag is missing');
      return found;
    };
    if (this.peek() === '(') return this.list(flag, true);
    const all = [flag()];
    while (this.peek() === ' ') {
      this.space();
      all.push(flag());
    }
    return all;
  }

  /** A sequence set as it is written, `*` as STAR; `$` for what was saved (RFC 5182). */
  sequenceSet(): Range[] | '$' {
    if (this.take('$')) return '$';
    const found = this.match(/[\d*:,]+/y);
    if (found === null) throw new SyntaxFault('A set of numbers is missing');
    return readSequenceSet(found);
  }
}

export function readSequenceSet(text: string): Range[] {
  const parts = text.split(',');
  if (parts.length > MOST_LISTED) throw new SyntaxFault('The set has too many parts');
  return parts.map((part): Range => {
    const found = /^([1-9]\d{0,9}|\*)(?::([1-9]\d{0,9}|\*))?$/.exec(part);
    if (!found) throw new SyntaxFault('Invalid set of numbers');
    const [from, to] = [found[1], found[2] ?? found[1]].map((one) => (one === '*' ? STAR : Number(one))) as [number, number];
    if ([from, to].some((one) => one !== STAR && one > 0xffff_ffff)) throw new SyntaxFault('Invalid set of numbers');
    return from <= to ? [from, to] : [to, from];
  });
}
