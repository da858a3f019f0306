import { isBase64, readPlain } from '../../../sasl-plain.ts';
import { REPLIES } from '../../replies.ts';
import type { Dialogue, Mode } from '../dialogue.ts';
import { always, unreadable, type Verb } from '../verb.ts';

interface Exchange {
  mechanism: string;
  initial: string | null;
}

/** RFC 4954 */
export const auth: Verb<Exchange> = {
  name: 'AUTH',
  parse: (argument) => {
    const [mechanism = '', initial = null] = argument.split(/ +/);
    return mechanism === '' ? unreadable('AUTH needs a mechanism') : { args: { mechanism: mechanism.toUpperCase(), initial } };
  },
  // What is refused depends on what was said, and is told of: a password that was sent in clear is known to others now.
  refusal: always,
  run: (dialogue, { mechanism, initial }) => {
    if (dialogue.settings.service !== 'submission') return dialogue.reply(REPLIES.signInNotHere);
    if (!dialogue.secure) {
      dialogue.put({ kind: 'sign-in-in-clear', user: mechanism === 'PLAIN' && initial ? (readPlain(initial)?.user ?? null) : null });
      return dialogue.reply(REPLIES.signInNeedsTls);
    }
    if (dialogue.helo === null) return dialogue.reply(REPLIES.greetFirst);
    if (dialogue.user !== null) return dialogue.reply(REPLIES.signedInAlready);
    if (dialogue.envelope) return dialogue.reply(REPLIES.mailAlready);
    if (mechanism !== 'PLAIN' && mechanism !== 'LOGIN') return dialogue.reply(REPLIES.mechanismUnknown);
    const mode = { kind: 'sign-in', mechanism, user: null } as const;
    dialogue.mode = mode;
    // RFC 4954 §4: "=" stands for an empty initial response.
    if (initial !== null) return signInLine(dialogue, initial === '=' ? '' : initial, mode);
    prompt(dialogue, mechanism === 'LOGIN' ? 'User name:' : '');
  },
};

/** A line of the exchange that AUTH began. */
export function signInLine(dialogue: Dialogue, line: string, mode: Mode & { kind: 'sign-in' }): void {
  dialogue.mode = { kind: 'command' };
  if (line === '*') return dialogue.reply(REPLIES.signInCancelled);
  if (mode.mechanism === 'PLAIN') {
    const said = readPlain(line);
    return said ? dialogue.ask({ kind: 'sign-in', ...said }) : dialogue.reply(REPLIES.signInBroken);
  }
  if (!isBase64(line)) return dialogue.reply(REPLIES.signInBroken);
  const text = Buffer.from(line, 'base64').toString('utf8');
  if (mode.user !== null) return dialogue.ask({ kind: 'sign-in', user: mode.user, password: text });
  dialogue.mode = { kind: 'sign-in', mechanism: 'LOGIN', user: text };
  prompt(dialogue, 'Password:');
}

function prompt(dialogue: Dialogue, text: string): void {
  dialogue.say(`334 ${Buffer.from(text).toString('base64')}\r\n`);
}
