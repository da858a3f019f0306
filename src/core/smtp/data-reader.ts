import { GrowingText } from './growing-text.ts';
import { type OctetAccount, UNBOUNDED } from './octet-budget.ts';

const CR = 0x0d;
const LF = 0x0a;
const DOT = 0x2e;

/** `no-space`: the octets that all conversations have together are in use. */
export type DataDefect = 'too-big' | 'no-space' | 'bare-line-end' | 'line-too-long';

export const LONGEST_TEXT_LINE = 8192;

/** Where the next CR and LF stand, or else the end; each is looked for once, as the places asked for only grow. */
class LineEnds {
  /** Searching a text is several times faster than searching octets. */
  private readonly text: string;
  private cr = -1;
  private lf = -1;

  constructor(bytes: Buffer) {
    this.text = bytes.toString('latin1');
  }

  nextCr(from: number): number {
    if (this.cr < from) this.cr = this.find('\r', from);
    return this.cr;
  }

  nextLf(from: number): number {
    if (this.lf < from) this.lf = this.find('\n', from);
    return this.lf;
  }

  private find(what: string, from: number): number {
    const found = this.text.indexOf(what, from);
    return found < 0 ? this.text.length : found;
  }
}

type State = 'line-start' | 'in-line' | 'cr' | 'dot' | 'dot-cr';

/**
 * Reads message text up to CR LF . CR LF and nothing else (RFC 5321 §4.1.1.4), taking away the dots of transparency (§4.5.2).
 * With a defect it reads on to the end without keeping text, so that the conversation stays in step.
 */
export class DataReader {
  private state: State = 'line-start';
  private readonly kept: GrowingText;
  private line = 0;
  defect: DataDefect | null = null;

  constructor(most: number, account: OctetAccount = UNBOUNDED) {
    this.kept = new GrowingText(most, account);
  }

  /** Takes octets; returns how many were used when the end was among them, else null. */
  push(bytes: Buffer): number | null {
    const ends = new LineEnds(bytes);
    for (let at = 0; at < bytes.length; at += 1) {
      const octet = bytes[at] as number;
      if (this.isPlain(octet)) {
        at = this.plainText(bytes, ends, at) - 1;
        continue;
      }
      switch (this.state) {
        case 'line-start':
          if (octet === DOT) this.state = 'dot';
          else this.text(octet);
          break;
        case 'in-line':
          this.text(octet);
          break;
        case 'cr':
          this.afterCr(octet);
          break;
        case 'dot':
          if (octet === CR) this.state = 'dot-cr';
          else this.text(octet);
          break;
        case 'dot-cr':
          if (octet === LF) return at + 1;
          this.keep(CR);
          this.afterCr(octet);
          break;
      }
    }
    return null;
  }

  get content(): Buffer {
    return this.kept.content;
  }

  /** Gives up the text: the defect says why. */
  spoil(defect: DataDefect): void {
    if (this.defect !== null) return;
    this.defect = defect;
    this.kept.clear();
  }

  /** Whether an octet is text and nothing else, where it stands. */
  private isPlain(octet: number): boolean {
    if (octet === CR || octet === LF) return false;
    if (this.state === 'line-start') return octet !== DOT;
    return this.state === 'in-line' && (this.line < LONGEST_TEXT_LINE || this.defect !== null);
  }

  /** Takes whole lines that hold nothing special, as most do, in one go, beginning with an octet that is plain; returns where it stopped. */
  private plainText(bytes: Buffer, ends: LineEnds, from: number): number {
    const longest = this.defect === null ? LONGEST_TEXT_LINE : Number.POSITIVE_INFINITY;
    let at = from;
    let line = this.line;
    for (;;) {
      const cr = ends.nextCr(at);
      const lf = ends.nextLf(at);
      const run = Math.min(cr, lf, at + longest - line) - at;
      at += run;
      line += run;
      // A line end, with the beginning of another line behind it that is no dot; anything else is special.
      if (at !== cr || lf !== cr + 1 || cr + 2 >= bytes.length || bytes[cr + 2] === DOT || line + 2 > longest) break;
      line = 0;
      at = cr + 2;
    }
    this.state = 'in-line';
    this.line = line;
    if (this.defect !== null) return at;
    const kept = this.kept.append(bytes.subarray(from, at));
    if (kept !== 'kept') this.spoil(kept);
    return at;
  }

  private text(octet: number): void {
    if (octet === CR) {
      this.state = 'cr';
      return;
    }
    if (octet === LF) this.spoil('bare-line-end');
    this.state = 'in-line';
    this.keep(octet);
  }

  private afterCr(octet: number): void {
    if (octet === LF) {
      this.keep(CR);
      this.keep(LF);
      this.line = 0;
      this.state = 'line-start';
      return;
    }
    this.spoil('bare-line-end');
    this.keep(CR);
    this.text(octet);
  }

  private keep(octet: number): void {
    if (this.defect !== null) return;
    this.line += 1;
    if (this.line > LONGEST_TEXT_LINE) return this.spoil('line-too-long');
    const kept = this.kept.push(octet);
    if (kept !== 'kept') this.spoil(kept);
  }
}
