import { type DataDefect, LONGEST_TEXT_LINE } from './data-reader.ts';
import { GrowingText } from './growing-text.ts';
import { type OctetAccount, UNBOUNDED } from './octet-budget.ts';

const CR = 0x0d;
const LF = 0x0a;

/**
 * Collects the chunks of a message (RFC 3030). Its text is held to the same rules as that of DATA: without BINARYMIME it consists of
 * lines that end in CR LF, so that no later server can read another message into it.
 */
export class ChunkReader {
  private readonly kept: GrowingText;
  private defect: DataDefect | null = null;
  private afterCr = false;
  /** Octets of the line so far. */
  private line = 0;

  constructor(most: number, account: OctetAccount = UNBOUNDED) {
    this.kept = new GrowingText(most, account);
  }

  push(bytes: Buffer): void {
    if (this.defect !== null) return;
    const kept = this.kept.append(bytes);
    const defect = kept === 'kept' ? this.read(bytes) : kept;
    if (defect !== null) this.spoil(defect);
  }

  /** Gives up the text: the defect says why. */
  spoil(defect: DataDefect): void {
    this.defect ??= defect;
    this.kept.clear();
  }

  end(): { content: Buffer; defect: DataDefect | null } {
    const text = this.kept.content;
    const endsWell = text.length === 0 || (text.at(-1) === LF && text.at(-2) === CR);
    if (!endsWell) this.push(Buffer.from('\r\n'));
    if (this.defect !== null) return { content: Buffer.alloc(0), defect: this.defect };
    return { content: this.kept.content, defect: null };
  }

  private read(bytes: Buffer): DataDefect | null {
    for (const octet of bytes) {
      if ((octet === LF) !== this.afterCr) return 'bare-line-end';
      this.afterCr = octet === CR;
      this.line = octet === CR || octet === LF ? 0 : this.line + 1;
      if (this.line > LONGEST_TEXT_LINE) return 'line-too-long';
    }
    return null;
  }
}
