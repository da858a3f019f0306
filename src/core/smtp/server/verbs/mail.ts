import type { Address } from '../../../address/mailbox-address.ts';
import { REPLIES, type Reply } from '../../replies.ts';
import { Envelope, type MailParameters, NO_MAIL_PARAMETERS } from '../envelope.ts';
import { type Parameter, readAddress, readPath, XTEXT } from '../path.ts';
import { unreadable, type Verb } from '../verb.ts';

interface Sender {
  /** Null for the empty sender of reports. */
  sender: Address | null;
  parameters: MailParameters;
}

/** RFC 5321 §4.1.1.2 */
export const mail: Verb<Sender> = {
  name: 'MAIL',
  parse: (argument) => {
    const path = readPath(argument, 'FROM');
    if (!path) return unreadable('MAIL needs FROM:<address>');
    const read = readParameters(path.parameters);
    if ('refusal' in read) return read;
    const { parameters } = read;
    if (path.address === '') return { args: { sender: null, parameters } };
    const address = readAddress(path.address, parameters.smtputf8);
    if (address.kind === 'ok') return { args: { sender: address.address, parameters } };
    return { refusal: address.kind === 'utf8' ? REPLIES.utf8NotAsked : REPLIES.badSenderAddress(address.reason) };
  },
  refusal: ({ helo, envelope, settings, secure, user }) => {
    if (helo === null) return REPLIES.greetFirst;
    if (envelope) return REPLIES.mailAlready;
    if (settings.service !== 'submission' || settings.trusted) return null;
    return secure ? (user === null ? REPLIES.signInFirst : null) : REPLIES.tlsFirst;
  },
  run: (dialogue, { sender, parameters }) => {
    const { maxMessageBytes } = dialogue.settings;
    // RFC 1870 §6.1
    if (parameters.size !== null && parameters.size > maxMessageBytes) return dialogue.reply(REPLIES.tooBig(maxMessageBytes));
    dialogue.ask({ kind: 'sender', envelope: new Envelope(sender, parameters) });
  },
};

function readParameters(written: Parameter[]): { parameters: MailParameters } | { refusal: Reply } {
  const parameters = { ...NO_MAIL_PARAMETERS };
  const seen = new Set<string>();
  for (const { text, key, value } of written) {
    if (seen.has(key)) return unreadable(`The parameter ${key} is given twice`);
    seen.add(key);
    const said = value ?? '';
    if (key === 'SIZE' && /^\d{1,20}$/.test(said)) parameters.size = Number(said);
    else if (key === 'BODY' && /^(7BIT|8BITMIME)$/i.test(said)) parameters.body = said.toUpperCase() as '7BIT';
    else if (key === 'SMTPUTF8' && value === null) parameters.smtputf8 = true;
    else if (key === 'RET' && /^(FULL|HDRS)$/i.test(said)) parameters.returnContent = said.toUpperCase() as 'FULL';
    else if (key === 'ENVID' && said.length <= 100 && XTEXT.test(said)) parameters.envelopeId = said;
    // RFC 4954 §5: a submitter we don't take on trust; accepted and not used.
    else if (key !== 'AUTH') return unreadable(`The parameter ${text} is not known here`);
  }
  return { parameters };
}
