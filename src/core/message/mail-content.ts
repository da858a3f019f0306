import { TextFacts } from '../smtp/plain-text.ts';

/** The text of a message on its way out: read piece by piece when it goes, so that a slow server keeps no memory. */
export interface MailContent {
  /** Octets. */
  size: number;
  isAscii: boolean;
  /** Whether any server must take it as it is: ASCII, in lines that are not too long. */
  isPlain: boolean;
  pieces(): AsyncIterable<Buffer>;
}

/** A text that is in memory anyway. */
export function heldContent(octets: Buffer): MailContent {
  const facts = new TextFacts();
  facts.push(octets);
  return {
    size: octets.length,
    isAscii: facts.isAscii,
    isPlain: facts.isPlain,
    pieces: async function* () {
      yield octets;
    },
  };
}

export async function wholeContent({ pieces }: MailContent): Promise<Buffer> {
  const all: Buffer[] = [];
  for await (const piece of pieces()) all.push(piece);
  return Buffer.concat(all);
}
