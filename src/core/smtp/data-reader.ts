const CR = 0x0d;
const LF = 0x0a;
const DOT = 0x2e;

export type DataDefect = 'too-big' | 'bare-line-end' | 'line-too-long';

export const LONGEST_TEXT_LINE = 8192;

type State = 'line-start' | 'in-line' | 'cr' | 'dot' | 'dot-cr';

/**
 * Reads message text up to CR LF . CR LF and nothing else (RFC 5321 §4.1.1.4), taking away the dots of transparency (§4.5.2).
 * With a defect it reads on to the end without keeping text, so that the conversation stays in step.
 */
export class DataReader {
  private state: State = 'line-start';
  private kept: Buffer = Buffer.allocUnsafe(16 * 1024);
  private length = 0;
  private line = 0;
  defect: DataDefect | null = null;

  constructor(private readonly most: number) {}

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
    return this.kept.subarray(0, this.length);
  }

  private text(octet: number): void {
    if (octet === CR) {
      this.state = 'cr';
      return;
    }
    if (octet === LF) this.defect ??= 'bare-line-end';
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
    this.defect ??= 'bare-line-end';
    this.keep(CR);
    this.text(octet);
  }

  private keep(octet: number): void {
    if (this.defect !== null) return;
    if (this.length >= this.most) {
      this.defect = 'too-big';
      return;
    }
    this.line += 1;
    if (this.line > LONGEST_TEXT_LINE) {
      this.defect = 'line-too-long';
      return;
    }
    if (this.length === this.kept.length) {
      const larger = Buffer.allocUnsafe(Math.min(this.kept.length * 2, this.most + 2));
      this.kept.copy(larger, 0, 0, this.length);
      this.kept = larger;
    }
    this.kept[this.length] = octet;
    this.length += 1;
  }
}
