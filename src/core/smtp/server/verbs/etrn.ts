import { REPLIES } from '../../replies.ts';
import { unreadable, type Verb } from '../verb.ts';

/** RFC 1985 */
export const etrn: Verb<string> = {
  name: 'ETRN',
  parse: (argument) => (argument === '' ? unreadable('ETRN needs a domain') : { args: argument }),
  refusal: ({ settings, helo, envelope }) => {
    if (settings.service !== 'inbound') return REPLIES.unknownCommand;
    if (helo === null) return REPLIES.greetFirst;
    // §5: not within a transaction.
    return envelope ? REPLIES.mailAlready : null;
  },
  run: (dialogue, argument) => dialogue.ask({ kind: 'start-queue', argument }),
};
