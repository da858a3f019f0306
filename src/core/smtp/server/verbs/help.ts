import { REPLIES } from '../../replies.ts';
import { always, anything, type Verb } from '../verb.ts';

/** RFC 5321 §4.1.1.8 */
export const help: Verb<null> = {
  name: 'HELP',
  parse: anything,
  refusal: always,
  run: (dialogue) => dialogue.reply(REPLIES.help),
};
