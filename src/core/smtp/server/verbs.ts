import type { Reply } from '../replies.ts';
import { REPLIES } from '../replies.ts';
import type { Dialogue } from './dialogue.ts';
import type { Verb } from './verb.ts';
import { auth } from './verbs/auth.ts';
import { bdat } from './verbs/bdat.ts';
import { data } from './verbs/data.ts';
import { etrn } from './verbs/etrn.ts';
import { ehlo, helo } from './verbs/hello.ts';
import { help } from './verbs/help.ts';
import { mail } from './verbs/mail.ts';
import { noop } from './verbs/noop.ts';
import { quit } from './verbs/quit.ts';
import { rcpt } from './verbs/rcpt.ts';
import { rset } from './verbs/rset.ts';
import { startTls } from './verbs/starttls.ts';
import { vrfy } from './verbs/vrfy.ts';

const ALL = [ehlo, helo, startTls, auth, mail, rcpt, data, bdat, etrn, rset, noop, help, vrfy, quit] as unknown as Verb<unknown>[];
const BY_NAME = new Map(ALL.map((verb) => [verb.name, verb]));

export const isVerb = (word: string): boolean => BY_NAME.has(word.toUpperCase());

/** Reads one command line without its line end (RFC 5321 §4.1.1); its verb is done with `args`. */
export function readCommand(line: string): { verb: Verb<unknown>; args: unknown } | { refusal: Reply } {
  const [word = '', ...rest] = line.split(' ');
  const verb = BY_NAME.get(word.toUpperCase());
  if (!verb) return { refusal: REPLIES.unknownCommand };
  const read = verb.parse(rest.join(' ').trim());
  return 'refusal' in read ? read : { verb, args: read.args };
}

export function doCommand(dialogue: Dialogue, line: string): void {
  const command = readCommand(line);
  const refusal = 'refusal' in command ? command.refusal : command.verb.refusal(dialogue);
  if (refusal) dialogue.reply(refusal);
  else if ('verb' in command) command.verb.run(dialogue, command.args);
}
