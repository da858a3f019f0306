import { type Address, needsUtf8 } from '../../../address/mailbox-address.ts';
import { sameAddress } from '../../../records/reverse-name.ts';
import { REPLIES, type Reply } from '../../replies.ts';
import { NO_RECIPIENT_PARAMETERS, NOTIFY_WORDS, type RecipientParameters } from '../envelope.ts';
import { type Parameter, postmasterAt, readAddress, readPath, XTEXT } from '../path.ts';
import { unreadable, type Verb } from '../verb.ts';

interface Recipient {
  /** `at` is the address of a host, where one was written: `postmaster@[192.0.2.25]`. */
  recipient: Address | { postmasterAt: string | null };
  parameters: RecipientParameters;
}

/** RFC 5321 §4.1.1.3 */
export const rcpt: Verb<Recipient> = {
  name: 'RCPT',
  parse: (argument) => {
    const path = readPath(argument, 'TO');
    if (!path) return unreadable('RCPT needs TO:<address>');
    const read = readParameters(path.parameters);
    if ('refusal' in read) return read;
    const { parameters } = read;
    const host = postmasterAt(path.address);
    if (host !== undefined) return { args: { recipient: { postmasterAt: host }, parameters } };
    const address = readAddress(path.address, true);
    if (address.kind === 'ok') return { args: { recipient: address.address, parameters } };
    return { refusal: address.kind === 'utf8' ? REPLIES.utf8NotAsked : REPLIES.badAddress(address.reason) };
  },
  refusal: ({ envelope, settings }) => {
    if (!envelope) return REPLIES.mailFirst;
    return envelope.recipients >= settings.maxRecipients ? REPLIES.tooManyRecipients : null;
  },
  run: (dialogue, { recipient, parameters }) => {
    const { envelope, settings } = dialogue;
    if (!envelope) return;
    if ('local' in recipient) {
      if (needsUtf8(recipient.local) && !envelope.parameters.smtputf8) return dialogue.reply(REPLIES.utf8NotAsked);
      return dialogue.ask({ kind: 'recipient', envelope, recipient, parameters });
    }
    const at = recipient.postmasterAt;
    if (at !== null && !settings.addresses?.some((one) => sameAddress(one, at)))
      return dialogue.reply(REPLIES.badAddress('that is not an address of this host'));
    dialogue.ask({ kind: 'recipient', envelope, recipient: { local: 'postmaster', domain: settings.hostName }, parameters });
  },
};

function readParameters(written: Parameter[]): { parameters: RecipientParameters } | { refusal: Reply } {
  const parameters: RecipientParameters = { ...NO_RECIPIENT_PARAMETERS };
  for (const { text, key, value } of written) {
    const said = value ?? '';
    if (key === 'NOTIFY' && parameters.notify === null) {
      const words = said.toUpperCase().split(',') as (typeof NOTIFY_WORDS)[number][];
      // RFC 3461 §4.1: NEVER stands alone.
      if (words.some((one) => !NOTIFY_WORDS.includes(one)) || (words.includes('NEVER') && words.length > 1))
        return unreadable('NOTIFY is NEVER, or some of SUCCESS, FAILURE and DELAY');
      parameters.notify = [...new Set(words)];
    } else if (key === 'ORCPT' && parameters.original === null) {
      const [type = '', address = ''] = said.split(/;(.*)/s);
      if (said.length > 500 || !/^[A-Za-z0-9-]+$/.test(type) || !XTEXT.test(address))
        return unreadable('ORCPT is a type, a semicolon and an address');
      parameters.original = said;
    } else return unreadable(`The parameter ${text} is not known here`);
  }
  return { parameters };
}
