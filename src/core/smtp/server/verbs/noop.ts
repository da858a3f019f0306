import { REPLIES } from '../../replies.ts';
import { always, anything, type Verb } from '../verb.ts';

/** RFC 5321 §4.1.1.9 */
export const noop: Verb<null> = {
  name: 'NOOP',
  parse: anything,
  refusal: always,
  run: (dialogue) => dialogue.reply(REPLIES.ok),
};
