const CR = 0x0d;
const LF = 0x0a;
const DOT = 0x2e;

/** A line that begins with a dot, behind another. */
const DOTTED = Buffer.from('\r\n.');

/**
 * A text as SMTP and POP3 send it, piece by piece: lines that begin with a dot get another one, the end gets its dot (RFC 5321 §4.5.2,
 * RFC 1939 §3). With `lines`, the header, the empty line and so many lines of the body (RFC 1939 §7, TOP). With `mendsLineEnds` a lone LF, as texts
 * have it that a program has put here (RFC 3501 §6.3.11), goes out as the end of a line that it is meant to be: whoever reads line by line takes it so.
 */
export class MultiLine {
  private atLineStart = true;
  private last = [0, 0];
  private inHeader = true;
  private lineLength = 0;
  /** Lines of the body that may still come; null for all. */
  private left: number | null;

  constructor(
    lines: number | null = null,
    private readonly mendsLineEnds = false,
  ) {
    this.left = lines;
  }

  /** Whether what follows would be left out anyway. */
  get isFull(): boolean {
    return this.left === 0 && !this.inHeader;
  }

  push(piece: Buffer): Buffer {
    if (this.left === null && piece.length > 1 && !this.needsDots(piece)) {
      this.last = [...piece.subarray(-2)];
      this.atLineStart = this.last[0] === CR && this.last[1] === LF;
      return piece;
    }
    const out = Buffer.allocUnsafe(piece.length * 2);
    let length = 0;
    for (const octet of piece) {
      if (this.isFull) break;
      if (this.atLineStart && octet === DOT) out[length++] = DOT;
      const isLone = octet === LF && this.last[1] !== CR;
      if (isLone && this.mendsLineEnds) out[length++] = CR;
      out[length++] = octet;
      this.atLineStart = octet === LF && (this.mendsLineEnds || !isLone);
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

  private needsDots(piece: Buffer): boolean {
    const [before, last] = this.last;
    return (
      (this.atLineStart && piece[0] === DOT) ||
      (last === CR && piece[0] === LF && piece[1] === DOT) ||
      (before === CR && last === LF && piece[0] === DOT) ||
      piece.includes(DOTTED) ||
      (this.mendsLineEnds && hasLoneLf(piece, last ?? 0))
    );
  }

  /** The end of the text. */
  end(): Buffer {
    return Buffer.from(this.atLineStart ? '.\r\n' : '\r\n.\r\n');
  }
}

function hasLoneLf(piece: Buffer, before: number): boolean {
  for (let at = piece.indexOf(LF); at >= 0; at = piece.indexOf(LF, at + 1)) if ((at === 0 ? before : piece[at - 1]) !== CR) return true;
  return false;
}
