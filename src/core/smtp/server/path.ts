import { type AddressParse, parseAddress } from '../../address/mailbox-address.ts';

/** RFC 3461 §4: printable ASCII in which `+` begins two hexadecimal digits. */
export const XTEXT = /^(?:[\x21-\x2a\x2c-\x3c\x3e-\x7e]|\+[0-9A-F]{2})+$/;

/** `FROM:<path> parameters` of MAIL, `TO:<path> parameters` of RCPT. */
const PATH = {
  FROM: /^FROM: ?<((?:"(?:[^"\\]|\\.)*"|[^<>"])*)>(?: +(.*))?$/i,
  TO: /^TO: ?<((?:"(?:[^"\\]|\\.)*"|[^<>"])*)>(?: +(.*))?$/i,
};

export interface Parameter {
  /** As it was written. */
  text: string;
  /** In capitals. */
  key: string;
  /** What stands after the equals sign; null without one. */
  value: string | null;
}

/** A source route before the address is dropped (RFC 5321 §4.1.1.3, appendix C). */
export function readPath(argument: string, keyword: 'FROM' | 'TO'): { address: string; parameters: Parameter[] } | null {
  const found = PATH[keyword].exec(argument);
  if (!found) return null;
  const address = (found[1] ?? '').replace(/^@[^:]*:/, '');
  const written = (found[2] ?? '').split(/ +/).filter((one) => one !== '');
  return { address, parameters: written.map(readParameter) };
}

function readParameter(text: string): Parameter {
  const equals = text.indexOf('=');
  const key = equals < 0 ? text : text.slice(0, equals);
  return { text, key: key.toUpperCase(), value: equals < 0 ? null : text.slice(equals + 1) };
}

/**
 * What `postmaster` without a domain says of its host (RFC 5321 §4.5.1: it always works): the address in `postmaster@[192.0.2.25]`,
 * null where there is none; undefined for any other recipient.
 */
export function postmasterAt(text: string): string | null | undefined {
  const found = /^postmaster(?:@\[(?:IPv6:)?([0-9a-f:.]+)\])?$/i.exec(text);
  return found ? (found[1] ?? null) : undefined;
}

/** An address off the line, whose octets are latin1 so far; beyond ASCII it is UTF-8, where that was asked for (RFC 6531 §3.3). */
export function readAddress(text: string, utf8: boolean): AddressParse | { kind: 'utf8' } {
  if (!/[^\x20-\x7e]/.test(text)) return parseAddress(text);
  if (!utf8) return { kind: 'utf8' };
  const decoded = Buffer.from(text, 'latin1').toString('utf8');
  return decoded.includes('\ufffd') ? { kind: 'invalid', reason: 'it is not UTF-8' } : parseAddress(decoded, true);
}
