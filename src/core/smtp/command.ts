import { type Address, parseAddress } from '../address/mailbox-address.ts';

export type Command =
  | { verb: 'HELO' | 'EHLO'; name: string }
  | { verb: 'MAIL'; sender: Address | null; size: number | null; body: '7BIT' | '8BITMIME' }
  | { verb: 'RCPT'; recipient: Address }
  | { verb: 'RCPT-POSTMASTER' }
  | { verb: 'AUTH'; mechanism: string; initial: string | null }
  | { verb: 'DATA' | 'RSET' | 'NOOP' | 'QUIT' | 'STARTTLS' | 'VRFY' | 'HELP' }
  | { verb: 'unknown' }
  | { verb: 'invalid'; of: 'sender' | 'recipient' | 'argument'; reason: string };

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
  const bare = BARE.find((one) => one === verb);
  if (bare) return argument === '' ? { verb: bare } : invalid('argument', `${bare} takes no argument`);
  if (verb === 'NOOP' || verb === 'HELP' || verb === 'VRFY') return { verb };
  return { verb: 'unknown' };
}

const invalid = (of: 'sender' | 'recipient' | 'argument', reason: string): Command => ({ verb: 'invalid', of, reason });

function parseMail(argument: string): Command {
  const path = readPath(argument, 'FROM');
  if (!path) return invalid('argument', 'MAIL needs FROM:<address>');
  let size: number | null = null;
  let body: '7BIT' | '8BITMIME' = '7BIT';
  for (const parameter of path.parameters) {
    const [name = '', value = ''] = parameter.split('=');
    if (name.toUpperCase() === 'SIZE' && /^\d{1,20}$/.test(value)) size = Number(value);
    else if (name.toUpperCase() === 'BODY' && /^(7BIT|8BITMIME)$/i.test(value)) body = value.toUpperCase() as typeof body;
    // RFC 4954 §5: a submitter we don't take on trust; accepted and not used.
    else if (name.toUpperCase() !== 'AUTH') return invalid('argument', `The parameter ${parameter} is not known here`);
  }
  if (path.address === '') return { verb: 'MAIL', sender: null, size, body };
  const parsed = parseAddress(path.address);
  return parsed.kind === 'ok' ? { verb: 'MAIL', sender: parsed.address, size, body } : invalid('sender', parsed.reason);
}

function parseRecipient(argument: string): Command {
  const path = readPath(argument, 'TO');
  if (!path) return invalid('argument', 'RCPT needs TO:<address>');
  if (path.parameters.length > 0) return invalid('argument', `The parameter ${path.parameters[0]} is not known here`);
  // RFC 5321 §4.5.1: postmaster without a domain always works.
  if (path.address.toLowerCase() === 'postmaster') return { verb: 'RCPT-POSTMASTER' };
  const parsed = parseAddress(path.address);
  return parsed.kind === 'ok' ? { verb: 'RCPT', recipient: parsed.address } : invalid('recipient', parsed.reason);
}

/** `FROM:<path> parameters`; a source route before the address is dropped (RFC 5321 §4.1.1.3, appendix C). */
function readPath(argument: string, keyword: string): { address: string; parameters: string[] } | null {
  const found = new RegExp(`^${keyword}: ?<((?:"(?:[^"\\\\]|\\\\.)*"|[^<>"])*)>(?: +(.*))?$`, 'i').exec(argument);
  if (!found) return null;
  const address = (found[1] ?? '').replace(/^@[^:]*:/, '');
  return { address, parameters: (found[2] ?? '').split(/ +/).filter((one) => one !== '') };
}
