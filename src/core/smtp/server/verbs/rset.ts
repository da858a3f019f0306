import { REPLIES } from '../../replies.ts';
import { alone, always, type Verb } from '../verb.ts';

/** RFC 5321 §4.1.1.5 */
export const rset: Verb<null> = {
  name: 'RSET',
  parse: alone('RSET'),
  refusal: always,
  run: (dialogue) => {
    dialogue.endTransaction(true);
    dialogue.reply(REPLIES.ok);
  },
};
