import { GrowingText } from './growing-text.ts';
import { type OctetAccount, UNBOUNDED } from './octet-budget.ts';

const CR = 0x0d;
const LF = 0x0a;
const DOT = 0x2e;

/** `no-space`: the octets that all conversations have together are in use. */
export type DataDefect = 'too-big' | 'no-space' | 'bare-line-end' | 'line-too-long';

export const LONGEST_TEXT_LINE = 8192;

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
    for (let at = 0; at < bytes.length; at += 1) {
      const octet = bytes[at] as number;
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
    this.defect ??= defect;
    this.kept.clear();
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
