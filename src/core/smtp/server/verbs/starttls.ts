import { REPLIES } from '../../replies.ts';
import { alone, type Verb } from '../verb.ts';

/** RFC 3207 */
export const startTls: Verb<null> = {
  name: 'STARTTLS',
  parse: alone('STARTTLS'),
  refusal: ({ secure, settings }) => (secure ? REPLIES.tlsAlready : settings.tlsOffered ? null : REPLIES.tlsUnavailable),
  run: (dialogue) => {
    dialogue.endTransaction(true);
    dialogue.reply(REPLIES.startTls);
    dialogue.startingTls = true;
    dialogue.put({ kind: 'start-tls' });
  },
};
