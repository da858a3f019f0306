import { isAscii } from 'node:buffer';

/** RFC 5321 §4.5.3.1.6 */
export const LONGEST_LINE = 998;

/** What must be known of a text before it is sent, found piece by piece. */
export class TextFacts {
  private isPlainAscii = true;
  private isShort = true;
  /** Octets since the last line end. */
  private open = 0;

  push(piece: Buffer): void {
    if (this.isPlainAscii) this.isPlainAscii = isAscii(piece);
    for (let from = 0; this.isShort && from < piece.length; ) {
      const end = piece.indexOf(0x0a, from);
      const length = this.open + (end < 0 ? piece.length : end) - from;
      // The CR before a line end does not count.
      if (length - (end < 0 ? 0 : 1) > LONGEST_LINE) this.isShort = false;
      if (end < 0) {
        this.open = length;
        return;
      }
      this.open = 0;
      from = end + 1;
    }
  }

  get isAscii(): boolean {
    return this.isPlainAscii;
  }

  /** Whether any server must take it as it is: ASCII, in lines that are not too long. */
  get isPlain(): boolean {
    return this.isPlainAscii && this.isShort;
  }
}
