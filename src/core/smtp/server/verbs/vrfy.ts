import { REPLIES } from '../../replies.ts';
import { always, anything, type Verb } from '../verb.ts';

/** RFC 5321 §4.1.1.6 */
export const vrfy: Verb<null> = {
  name: 'VRFY',
  parse: anything,
  refusal: always,
  run: (dialogue) => dialogue.reply(REPLIES.verifyNo),
};
