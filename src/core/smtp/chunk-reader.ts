import { type DataDefect, LONGEST_TEXT_LINE } from './data-reader.ts';

const CR = 0x0d;
const LF = 0x0a;

/**
 * Collects the chunks of a message (RFC 3030). Its text is held to the same rules as that of DATA: without BINARYMIME it consists of
 * lines that end in CR LF, so that no later server can read another message into it.
 */
export class ChunkReader {
  private readonly parts: Buffer[] = [];
  private length = 0;
  private tooBig = false;

  constructor(private readonly most: number) {}

  push(bytes: Buffer): void {
    this.length += bytes.length;
    this.tooBig ||= this.length > this.most;
    if (this.tooBig) this.parts.length = 0;
    else this.parts.push(Buffer.from(bytes));
  }

  end(): { content: Buffer; defect: DataDefect | null } {
    if (this.tooBig) return { content: Buffer.alloc(0), defect: 'too-big' };
    const text = Buffer.concat(this.parts);
    const endsWell = text.length === 0 || (text.at(-1) === LF && text.at(-2) === CR);
    const content = endsWell ? text : Buffer.concat([text, Buffer.from('\r\n')]);
    return { content, defect: defectOf(content) };
  }
}

function defectOf(text: Buffer): DataDefect | null {
  let line = 0;
  for (let at = 0; at < text.length; at += 1) {
    const octet = text[at];
    if (octet === LF) return 'bare-line-end';
    if (octet === CR) {
      if (text[at + 1] !== LF) return 'bare-line-end';
      at += 1;
      line = 0;
      continue;
    }
    line += 1;
    if (line > LONGEST_TEXT_LINE) return 'line-too-long';
  }
  return null;
}
