import { parseDomain } from './domain.ts';

/** An address as SMTP carries it; `local` keeps its spelling, `domain` is lower-case A-labels. */
export interface Address {
  local: string;
  domain: string;
}

export type AddressParse = { kind: 'ok'; address: Address } | { kind: 'invalid'; reason: string };

const ATOM = "[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+";
const DOT_STRING = new RegExp(`^${ATOM}(\\.${ATOM})*$`);
/** RFC 6531 §3.3 adds every character beyond ASCII to the atoms. */
const UTF8_DOT_STRING = /^[A-Za-z0-9!#$%&'*+/=?^_`{|}~\u0080-\u{10ffff}-]+(\.[A-Za-z0-9!#$%&'*+/=?^_`{|}~\u0080-\u{10ffff}-]+)*$/u;
const QUOTED = /^"((?:[\x20\x21\x23-\x5b\x5d-\x7e]|\\[\x20-\x7e])*)"$/;

/** Parses `local@domain` by RFC 5321 §4.1.2; a quoted local part is unquoted, an address literal is refused. With `utf8` the local part may go beyond ASCII. */
export function parseAddress(text: string, utf8 = false): AddressParse {
  const at = text.lastIndexOf('@');
  if (at < 1) return { kind: 'invalid', reason: 'it has no local part and domain around an @' };
  const written = utf8 ? text.slice(0, at).normalize('NFC') : text.slice(0, at);
  if (utf8 ? /[\p{Cc}\p{Cf}\p{Zl}\p{Zp}]/u.test(written) : /[^\x20-\x7e]/.test(written))
    return { kind: 'invalid', reason: utf8 ? 'its local part holds a control character' : 'its local part is not plain ASCII' };
  const quoted = QUOTED.exec(written);
  const local = quoted ? (quoted[1] ?? '').replace(/\\(.)/g, '$1') : written;
  if (!quoted && !(utf8 ? UTF8_DOT_STRING : DOT_STRING).test(written)) return { kind: 'invalid', reason: 'its local part is malformed' };
  // RFC 5321 §4.5.3.1.1
  if (Buffer.byteLength(written) > 64) return { kind: 'invalid', reason: 'its local part is longer than 64 octets' };
  const domain = parseDomain(text.slice(at + 1));
  if (domain.kind === 'invalid') return { kind: 'invalid', reason: `in its domain, ${domain.reason}` };
  return { kind: 'ok', address: { local, domain: domain.ascii } };
}

/** The address in the form that SMTP and header fields take, quoting the local part where needed. */
export function formatAddress({ local, domain }: Address): string {
  const written = UTF8_DOT_STRING.test(local) ? local : `"${local.replace(/(["\\])/g, '\\$1')}"`;
  return `${written}@${domain}`;
}

/** One spelling for each address, for look-ups and for "is it the same": local parts here ignore case. */
export const addressKey = (address: Address): string => formatAddress({ ...address, local: address.local.toLowerCase() });

/** Splits `name+tag`: the part before the first `+` is who it reaches. */
export function withoutTag(local: string): string {
  const plus = local.indexOf('+');
  return plus > 0 ? local.slice(0, plus) : local;
}

export type LocalPartParse = { kind: 'ok'; local: string } | { kind: 'invalid'; reason: string };

/** A local part that may be given out here: lower case, a plain dot-string, no `+` (that starts a tag). */
export function parseNewLocalPart(text: string): LocalPartParse {
  const local = text.trim().toLowerCase();
  if (local === '') return { kind: 'invalid', reason: 'it is empty' };
  if (local.length > 64) return { kind: 'invalid', reason: 'it is longer than 64 octets' };
  if (local.includes('+')) return { kind: 'invalid', reason: 'it holds "+", which separates a name from its tag' };
  if (!/^[a-z0-9_-]+(\.[a-z0-9_-]+)*$/.test(local))
    return { kind: 'invalid', reason: 'it may hold only letters a–z, digits, "-", "_" and single dots between them' };
  return { kind: 'ok', local };
}

/** Whether an address needs SMTPUTF8 on its way (RFC 6531 §3.2). */
export const needsUtf8 = (address: string): boolean => /[^\u0020-\u007e]/.test(address);
