import type { Dialogue } from '../dialogue.ts';
import { always, unreadable, type Verb } from '../verb.ts';

const hello = (name: 'EHLO' | 'HELO', run: Verb<string>['run']): Verb<string> => ({
  name,
  parse: (argument) => (/^[\x21-\x7e]{1,255}$/.test(argument) ? { args: argument } : unreadable(`${name} needs your host name`)),
  refusal: always,
  run: (dialogue, client) => {
    dialogue.endTransaction(true);
    dialogue.helo = client;
    dialogue.extended = name === 'EHLO';
    run(dialogue, client);
  },
});

/** RFC 5321 §4.1.1.1 */
export const helo = hello('HELO', (dialogue) => dialogue.reply({ code: 250, status: null, text: dialogue.settings.hostName }));
export const ehlo = hello('EHLO', (dialogue) => {
  const lines = extensions(dialogue);
  dialogue.say(lines.map((line, at) => `250${at === lines.length - 1 ? ' ' : '-'}${line}\r\n`).join(''));
});

const extensions = ({ settings, secure }: Dialogue): string[] => [
  `${settings.hostName} greets you`,
  'PIPELINING',
  `SIZE ${settings.maxMessageBytes}`,
  '8BITMIME',
  'ENHANCEDSTATUSCODES',
  'DSN',
  'SMTPUTF8',
  'CHUNKING',
  ...(settings.service === 'inbound' ? ['ETRN'] : []),
  ...(settings.tlsOffered && !secure ? ['STARTTLS'] : []),
  ...(settings.service === 'submission' && secure ? ['AUTH PLAIN LOGIN'] : []),
];
