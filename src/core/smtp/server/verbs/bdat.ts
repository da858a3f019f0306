import { ChunkReader } from '../../chunk-reader.ts';
import { REPLIES } from '../../replies.ts';
import type { Dialogue } from '../dialogue.ts';
import { endOfText } from '../text.ts';
import { always, unreadable, type Verb } from '../verb.ts';

interface Chunk {
  size: number;
  last: boolean;
}

/** RFC 3030 §2 */
export const bdat: Verb<Chunk> = {
  name: 'BDAT',
  parse: (argument) => {
    const found = /^(\d{1,15})( +LAST)?$/i.exec(argument);
    return found
      ? { args: { size: Number(found[1]), last: found[2] !== undefined } }
      : unreadable('BDAT needs a size, and LAST at the end');
  },
  // The octets of a chunk follow its command whatever is said to it, so they are always read, and it is answered behind them.
  refusal: always,
  run: (dialogue, { size, last }) => {
    const { envelope, settings, account } = dialogue;
    if (envelope && envelope.recipients > 0) dialogue.chunks ??= new ChunkReader(settings.maxMessageBytes, account);
    dialogue.mode = { kind: 'chunk', left: size, last };
    if (size === 0) endOfChunk(dialogue, last);
  },
};

/** All octets of a chunk are there. */
export function endOfChunk(dialogue: Dialogue, last: boolean): void {
  dialogue.mode = { kind: 'command' };
  const { chunks } = dialogue;
  if (!chunks) return dialogue.reply(dialogue.envelope ? REPLIES.recipientFirst : REPLIES.mailFirst);
  if (!last) return dialogue.reply(REPLIES.ok);
  dialogue.chunks = null;
  endOfText(dialogue, chunks.end());
}
