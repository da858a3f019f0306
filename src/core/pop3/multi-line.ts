const CR = 0x0d;
const LF = 0x0a;
const DOT = 0x2e;

/**
 * A text as a multi-line answer, piece by piece: lines that begin with a dot get another one, the end gets its dot (RFC 1939 §3). With `lines`,
 * the header, the empty line and so many lines of the body (§7, TOP).
 */
export class MultiLine {
  private atLineStart = true;
  private last = [0, 0];
  private inHeader = true;
  private lineLength = 0;
  /** Lines of the body that may still come; null for all. */
  private left: number | null;

  constructor(lines: number | null) {
    this.left = lines;
  }

  /** Whether what follows would be left out anyway. */
  get isFull(): boolean {
    return this.left === 0 && !this.inHeader;
  }

  push(piece: Buffer): Buffer {
    const out = Buffer.allocUnsafe(piece.length * 2);
    let length = 0;
    for (const octet of piece) {
      if (this.isFull) break;
      if (this.atLineStart && octet === DOT) out[length++] = DOT;
      out[length++] = octet;
      this.atLineStart = octet === LF && this.last[1] === CR;
      this.last = [this.last[1] ?? 0, octet];
      if (!this.atLineStart) {
        if (octet !== CR && octet !== LF) this.lineLength += 1;
        continue;
      }
      if (this.inHeader) this.inHeader = this.lineLength > 0;
      else if (this.left !== null) this.left -= 1;
      this.lineLength = 0;
    }
    return out.subarray(0, length);
  }

  /** The end of the answer. */
  end(): Buffer {
    return Buffer.from(this.atLineStart ? '.\r\n' : '\r\n.\r\n');
  }
}
