import { type Address, type AddressParse, parseAddress } from '../address/mailbox-address.ts';

/** What MAIL may say besides the sender. */
export interface MailParameters {
  size: number | null;
  body: '7BIT' | '8BITMIME';
  /** RFC 6531 §3.4 */
  smtputf8: boolean;
  /** RFC 3461 §4.3: what a failure report is to return. */
  returnContent: 'FULL' | 'HDRS' | null;
  /** RFC 3461 §4.4, still in xtext. */
  envelopeId: string | null;
}

export const NOTIFY_WORDS = ['NEVER', 'SUCCESS', 'FAILURE', 'DELAY'] as const;

/** What RCPT may say besides the recipient. */
export interface RecipientParameters {
  /** RFC 3461 §4.1: when to report; null leaves it to us. */
  notify: (typeof NOTIFY_WORDS)[number][] | null;
  /** RFC 3461 §4.2: `type;address`, the address still in xtext. */
  original: string | null;
}

export const NO_MAIL_PARAMETERS: MailParameters = { size: null, body: '7BIT', smtputf8: false, returnContent: null, envelopeId: null };
export const NO_RECIPIENT_PARAMETERS: RecipientParameters = { notify: null, original: null };

export type Command =
  | { verb: 'HELO' | 'EHLO'; name: string }
  | { verb: 'MAIL'; sender: Address | null; parameters: MailParameters }
  | { verb: 'RCPT'; recipient: Address; parameters: RecipientParameters }
  /** `at` is the address of a host, where one was written: `postmaster@[192.0.2.25]`. */
  | { verb: 'RCPT-POSTMASTER'; at: string | null; parameters: RecipientParameters }
  | { verb: 'BDAT'; size: number; last: boolean }
  | { verb: 'ETRN'; argument: string }
  | { verb: 'AUTH'; mechanism: string; initial: string | null }
  | { verb: 'DATA' | 'RSET' | 'NOOP' | 'QUIT' | 'STARTTLS' | 'VRFY' | 'HELP' }
  | { verb: 'unknown' }
  | { verb: 'invalid'; of: 'sender' | 'recipient' | 'argument' | 'utf8'; reason: string };

const BARE = ['DATA', 'RSET', 'QUIT', 'STARTTLS'] as const;

/** Parses one command line without its line end (RFC 5321 §4.1.1). */
export function parseCommand(line: string): Command {
  const [word = '', ...rest] = line.split(' ');
  const verb = word.toUpperCase();
  const argument = rest.join(' ').trim();
  if (verb === 'HELO' || verb === 'EHLO')
    return /^[\x21-\x7e]{1,255}$/.test(argument) ? { verb, name: argument } : invalid('argument', `${verb} needs your host name`);
  if (verb === 'MAIL') return parseMail(argument);
  if (verb === 'RCPT') return parseRecipient(argument);
  if (verb === 'AUTH') {
    const [mechanism = '', initial = null] = argument.split(/ +/);
    return mechanism === '' ? invalid('argument', 'AUTH needs a mechanism') : { verb, mechanism: mechanism.toUpperCase(), initial };
  }
  if (verb === 'BDAT') {
    // RFC 3030 §2
    const found = /^(\d{1,15})( +LAST)?$/i.exec(argument);
    return found
      ? { verb, size: Number(found[1]), last: found[2] !== undefined }
      : invalid('argument', 'BDAT needs a size, and LAST at the end');
  }
  if (verb === 'ETRN') return argument === '' ? invalid('argument', 'ETRN needs a domain') : { verb, argument };
  const bare = BARE.find((one) => one === verb);
  if (bare) return argument === '' ? { verb: bare } : invalid('argument', `${bare} takes no argument`);
  if (verb === 'NOOP' || verb === 'HELP' || verb === 'VRFY') return { verb };
  return { verb: 'unknown' };
}

const invalid = (of: 'sender' | 'recipient' | 'argument' | 'utf8', reason: string): Command => ({ verb: 'invalid', of, reason });

/** RFC 3461 §4: printable ASCII in which `+` begins two hexadecimal digits. */
const XTEXT = /^(?:[\x21-\x2a\x2c-\x3c\x3e-\x7e]|\+[0-9A-F]{2})+$/;

function parseMail(argument: string): Command {
  const path = readPath(argument, 'FROM');
  if (!path) return invalid('argument', 'MAIL needs FROM:<address>');
  const parameters = { ...NO_MAIL_PARAMETERS };
  const seen = new Set<string>();
  for (const parameter of path.parameters) {
    const [name = '', ...rest] = parameter.split('=');
    const key = name.toUpperCase();
    const value = rest.join('=');
    if (seen.has(key)) return invalid('argument', `The parameter ${key} is given twice`);
    seen.add(key);
    if (key === 'SIZE' && /^\d{1,20}$/.test(value)) parameters.size = Number(value);
    else if (key === 'BODY' && /^(7BIT|8BITMIME)$/i.test(value)) parameters.body = value.toUpperCase() as '7BIT';
    else if (key === 'SMTPUTF8' && rest.length === 0) parameters.smtputf8 = true;
    else if (key === 'RET' && /^(FULL|HDRS)$/i.test(value)) parameters.returnContent = value.toUpperCase() as 'FULL';
    else if (key === 'ENVID' && value.length <= 100 && XTEXT.test(value)) parameters.envelopeId = value;
    // RFC 4954 §5: a submitter we don't take on trust; accepted and not used.
    else if (key !== 'AUTH') return invalid('argument', `The parameter ${parameter} is not known here`);
  }
  if (path.address === '') return { verb: 'MAIL', sender: null, parameters };
  const read = readAddress(path.address, parameters.smtputf8);
  return read.kind === 'ok'
    ? { verb: 'MAIL', sender: read.address, parameters }
    : invalid(read.kind === 'utf8' ? 'utf8' : 'sender', read.reason);
}

function parseRecipient(argument: string): Command {
  const path = readPath(argument, 'TO');
  if (!path) return invalid('argument', 'RCPT needs TO:<address>');
  const parameters: RecipientParameters = { ...NO_RECIPIENT_PARAMETERS };
  for (const parameter of path.parameters) {
    const [name = '', ...rest] = parameter.split('=');
    const key = name.toUpperCase();
    const value = rest.join('=');
    if (key === 'NOTIFY' && parameters.notify === null) {
      const words = value.toUpperCase().split(',') as (typeof NOTIFY_WORDS)[number][];
      // §4.1: NEVER stands alone.
      if (words.some((one) => !NOTIFY_WORDS.includes(one)) || (words.includes('NEVER') && words.length > 1))
        return invalid('argument', 'NOTIFY is NEVER, or some of SUCCESS, FAILURE and DELAY');
      parameters.notify = [...new Set(words)];
    } else if (key === 'ORCPT' && parameters.original === null) {
      const [type = '', address = ''] = value.split(/;(.*)/s);
      if (value.length > 500 || !/^[A-Za-z0-9-]+$/.test(type) || !XTEXT.test(address))
        return invalid('argument', 'ORCPT is a type, a semicolon and an address');
      parameters.original = value;
    } else return invalid('argument', `The parameter ${parameter} is not known here`);
  }
  // RFC 5321 §4.5.1: postmaster without a domain always works.
  const postmaster = /^postmaster(?:@\[(?:IPv6:)?([0-9a-f:.]+)\])?$/i.exec(path.address);
  if (postmaster) return { verb: 'RCPT-POSTMASTER', at: postmaster[1] ?? null, parameters };
  const read = readAddress(path.address, true);
  return read.kind === 'ok' ? { verb: 'RCPT', recipient: read.address, parameters } : invalid('recipient', read.reason);
}

/** An address off the line, whose octets are latin1 so far; beyond ASCII it is UTF-8, where that was asked for (RFC 6531 §3.3). */
function readAddress(text: string, utf8: boolean): AddressParse | { kind: 'utf8'; reason: string } {
  if (!/[^\x20-\x7e]/.test(text)) return parseAddress(text);
  if (!utf8) return { kind: 'utf8', reason: 'it is not plain ASCII, and SMTPUTF8 was not asked for' };
  const decoded = Buffer.from(text, 'latin1').toString('utf8');
  return decoded.includes('\ufffd') ? { kind: 'invalid', reason: 'it is not UTF-8' } : parseAddress(decoded, true);
}

/** `FROM:<path> parameters`; a source route before the address is dropped (RFC 5321 §4.1.1.3, appendix C). */
function readPath(argument: string, keyword: string): { address: string; parameters: string[] } | null {
  const found = new RegExp(`^${keyword}: ?<((?:"(?:[^"\\\\]|\\\\.)*"|[^<>"])*)>(?: +(.*))?$`, 'i').exec(argument);
  if (!found) return null;
  const address = (found[1] ?? '').replace(/^@[^:]*:/, '');
  return { address, parameters: (found[2] ?? '').split(/ +/).filter((one) => one !== '') };
}
