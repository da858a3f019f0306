import { DataReader } from '../../data-reader.ts';
import { REPLIES } from '../../replies.ts';
import { alone, type Verb } from '../verb.ts';

/** RFC 5321 §4.1.1.4 */
export const data: Verb<null> = {
  name: 'DATA',
  parse: alone('DATA'),
  refusal: ({ chunks, envelope }) => {
    // RFC 3030 §2: not in the middle of chunks.
    if (chunks) return REPLIES.chunksBegun;
    if (!envelope) return REPLIES.mailFirst;
    return envelope.recipients === 0 ? REPLIES.recipientFirst : null;
  },
  run: (dialogue) => {
    dialogue.mode = { kind: 'data', reader: new DataReader(dialogue.settings.maxMessageBytes, dialogue.account) };
    dialogue.reply(REPLIES.startData);
  },
};
