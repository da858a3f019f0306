import { command, type Dialogue, type Ending, no, nothing, ok } from '../dialogue.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';
import { capabilities } from './any.ts';

const LONGEST = 1024;

/** Signs in, and says what is offered from then on. */
export async function signIn(dialogue: Dialogue, user: string, password: string): Promise<Ending> {
  const answer = await dialogue.doors.signIn(user, password);
  if (answer.kind === 'refused') return no(answer.text, answer.code);
  dialogue.mailroom = answer.mailroom;
  return ok(`Signed in as ${answer.mailroom.address.replace(/[^\x20-\x7e]/g, '?')}`, `CAPABILITY ${capabilities(dialogue)}`);
}

/** RFC 3501 §6.2.3: only under TLS. */
export const login = command(
  'not-signed-in',
  (tokens: Tokens) => {
    const user = tokens.astringText();
    tokens.space();
    const password = tokens.astringText();
    tokens.end();
    if (user.length > LONGEST || password.length > LONGEST) throw new SyntaxFault('That is too long');
    return { user, password };
  },
  (dialogue, { user, password }) => {
    if (dialogue.isSecure) return signIn(dialogue, user, password);
    dialogue.doors.signInInClear(user);
    return no('Begin TLS first (STARTTLS)', 'PRIVACYREQUIRED');
  },
);

/** What was asked for: `initial` null for none yet, and null as a whole for a mechanism that is not had here. */
export type SaslAsked = { initial: string | null } | null;

/** RFC 3501 §6.2.2, RFC 4959: the session has the exchange. */
export const authenticate = command(
  'not-signed-in',
  (tokens: Tokens): SaslAsked => {
    const mechanism = tokens.word();
    if (mechanism !== 'PLAIN') return null;
    if (tokens.isAtEnd) return { initial: null };
    tokens.space();
    const initial = tokens.match(/[A-Za-z0-9+/=]+/y) ?? '';
    tokens.end();
    return { initial: initial === '=' ? '' : initial };
  },
  () => ok(),
);

/** RFC 3501 §6.2.1: the session begins TLS. */
export const startTls = command('not-signed-in', nothing, () => ok());
