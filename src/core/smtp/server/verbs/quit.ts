import { REPLIES, replyLine } from '../../replies.ts';
import { alone, always, type Verb } from '../verb.ts';

/** RFC 5321 §4.1.1.10 */
export const quit: Verb<null> = {
  name: 'QUIT',
  parse: alone('QUIT'),
  refusal: always,
  run: (dialogue) => {
    dialogue.say(replyLine(REPLIES.bye));
    dialogue.close();
  },
};
