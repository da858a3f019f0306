import { type OctetAccount, UNBOUNDED } from '../smtp/octet-budget.ts';
import type { Piece } from './tokens.ts';

/** One whole command as it came. */
export interface WrittenCommand {
  tag: string;
  /** In capitals; `UID FETCH` is one name. */
  name: string;
  /** What follows the name and its space. */
  pieces: Piece[];
}

/** A response code (RFC 5530), for what is no fault of how the command is written. */
type FaultCode = 'TOOBIG' | 'UNAVAILABLE' | null;

export type ReaderOutput =
  | { kind: 'command'; command: WrittenCommand }
  /** A line outside of commands: the answer to a continuation, or DONE. */
  | { kind: 'line'; line: string }
  /** The client waits for leave to send its literal. */
  | { kind: 'continue' }
  /** The command is given up; `isOver`: where the next one begins can't be told. */
  | { kind: 'fault'; tag: string; text: string; code: FaultCode; isOver: boolean };

/** What a command may hold, in octets. */
export interface ReaderLimits {
  /** Of its text, over all lines. */
  line: number;
  /** Of one literal. */
  literal: number;
  /** Of one literal of a command that brings messages. */
  message: number;
  /** Of all literals of one command. */
  all: number;
}

const BRINGS_MESSAGES = new Set(['APPEND', 'REPLACE', 'UID REPLACE']);
/** Smaller literals are bounded by the number of conversations alone. */
const SMALL_LITERAL = 4096;
const LITERAL_AT_END = /(~?)\{(\d{1,10})(\+?)\}$/;

/**
 * Puts commands together from octets as they come: lines, and literals between them (RFC 3501 §4.3, RFC 7888). Bounded from the first octet.
 * Gives one thing at a time: what comes after it is read when that has been done.
 */
export class CommandReader {
  private input: Buffer[] = [];
  private inputLength = 0;
  private pieces: Piece[] = [];
  private textLength = 0;
  private literalLength = 0;
  /** What the literals of the command hold that was read last. */
  private held = 0;
  /** Octets of a literal that are still to come, and those that came. */
  private awaited: { left: number; got: Buffer[] } | null = null;
  private inCommand = false;

  constructor(
    private readonly limits: () => ReaderLimits,
    /** What literals hold, of what all conversations of a process may hold together. */
    private readonly account: OctetAccount = UNBOUNDED,
  ) {}

  get waiting(): number {
    return this.inputLength;
  }

  push(octets: Buffer): void {
    this.input.push(octets);
    this.inputLength += octets.length;
  }

  /** Whether the command that was read last may hold so many octets beside its literals. */
  mayHold(octets: number): boolean {
    return this.account.resize(this.held + octets);
  }

  /** The command is done: what it held is free for others. */
  done(): void {
    this.held = 0;
    this.account.resize(0);
  }

  /** Forgets what has come and was not read: what was sent in clear before TLS (RFC 3501 §6.2.1). */
  clear(): void {
    this.input = [];
    this.inputLength = 0;
    this.reset();
  }

  /** The next thing that can be read; null when more has to come. With `asLine`, the next line whatever it is. */
  next(asLine: boolean): ReaderOutput | null {
    for (;;) {
      if (this.awaited && !this.fillLiteral()) return null;
      const line = this.takeLine();
      if (line === null) {
        if (this.inputLength + this.textLength <= this.limits().line) return null;
        return this.fault('The line is too long', true);
      }
      if (asLine && !this.inCommand) return { kind: 'line', line };
      this.textLength += line.length;
      if (this.textLength > this.limits().line) return this.fault('The command is too long', true);
      // An empty line between commands is passed over: some clients send one after a literal.
      if (!this.inCommand && line === '') continue;
      this.inCommand = true;
      const found = LITERAL_AT_END.exec(line);
      if (!found) {
        this.pieces.push(line);
        return this.finish();
      }
      const [whole, , digits = '', plus] = found;
      const output = this.beginLiteral(line.slice(0, -whole.length), Number(digits), plus === '+');
      if (output) return output;
    }
  }

  private beginLiteral(before: string, length: number, isUnasked: boolean): ReaderOutput | null {
    this.pieces.push(before);
    const { literal, message, all } = this.limits();
    const most = BRINGS_MESSAGES.has(this.name()) ? message : literal;
    if (length > most || this.literalLength + length > all) {
      // Who asks first sends nothing; who did not has sent it already, and nobody can tell commands from text any more.
      return this.fault(`A literal of ${length} octets is too large`, isUnasked, 'TOOBIG');
    }
    if (length > SMALL_LITERAL && !this.account.resize(this.literalLength + length))
      return this.fault('The server is receiving too much right now; try again soon', isUnasked, 'UNAVAILABLE');
    this.awaited = { left: length, got: [] };
    this.literalLength += length;
    return isUnasked ? null : { kind: 'continue' };
  }

  private fillLiteral(): boolean {
    const { awaited } = this;
    if (!awaited) return true;
    while (awaited.left > 0) {
      const first = this.input[0];
      if (!first) return false;
      const some = first.subarray(0, awaited.left);
      awaited.got.push(some);
      awaited.left -= some.length;
      this.drop(some.length);
    }
    this.pieces.push(Buffer.concat(awaited.got));
    this.awaited = null;
    return true;
  }

  private takeLine(): string | null {
    let length = 0;
    for (const [place, piece] of this.input.entries()) {
      const end = piece.indexOf(0x0a);
      if (end < 0) {
        length += piece.length;
        // Lines that never end are not looked through again and again.
        if (length > this.limits().line) return null;
        continue;
      }
      const parts = [...this.input.slice(0, place), piece.subarray(0, end)];
      const line = Buffer.concat(parts).toString('latin1');
      this.drop(length + end + 1);
      return line.endsWith('\r') ? line.slice(0, -1) : line;
    }
    // What came in many small pieces is kept as one.
    if (this.input.length > 64) this.input = [Buffer.concat(this.input)];
    return null;
  }

  private drop(length: number): void {
    this.inputLength -= length;
    for (let left = length; left > 0; ) {
      const first = this.input[0] as Buffer;
      if (first.length <= left) {
        this.input.shift();
        left -= first.length;
      } else {
        this.input[0] = first.subarray(left);
        left = 0;
      }
    }
    if (this.input[0]?.length === 0) this.input.shift();
  }

  private finish(): ReaderOutput {
    const { pieces } = this;
    const tag = this.tag();
    const name = this.name();
    this.held = this.literalLength;
    this.reset();
    if (tag === null) return { kind: 'fault', tag: '*', text: 'A command begins with a tag', code: null, isOver: false };
    const first = String(pieces[0]);
    const rest = first.slice(tag.length + 1 + name.length);
    return { kind: 'command', command: { tag, name, pieces: [rest, ...pieces.slice(1)] } };
  }

  private fault(text: string, isOver: boolean, code: FaultCode = null): ReaderOutput {
    const tag = this.tag() ?? '*';
    this.reset();
    return { kind: 'fault', tag, text, code, isOver };
  }

  private tag(): string | null {
    // RFC 3501 §9: ASTRING-CHARs but +.
    return /^[!#$&',-[\]^-z|}~]{1,200}(?= |$)/.exec(String(this.pieces[0] ?? ''))?.[0] ?? null;
  }

  private name(): string {
    const tag = this.tag();
    const text = String(this.pieces[0] ?? '').slice((tag?.length ?? 0) + 1);
    return (/^uid [a-z]+/i.exec(text)?.[0] ?? /^[a-z0-9]+/i.exec(text)?.[0] ?? '').toUpperCase();
  }

  private reset(): void {
    this.pieces = [];
    this.textLength = 0;
    this.literalLength = 0;
    this.awaited = null;
    this.inCommand = false;
  }
}
