import { domainToASCII, domainToUnicode } from 'node:url';

declare const isAskable: unique symbol;
/**
 * A name that can be asked for in DNS: labels of 1 to 63 octets, 253 in all, in lower case, without a final dot (RFC 1035 §2.3.4). Such a name may
 * begin with an underscore, or be none of a host.
 */
export type DnsName = string & { readonly [isAskable]: true };

declare const isParsed: unique symbol;
/**
 * A domain name: two or more labels of letters, digits and inner hyphens, in A-labels and lower case, without a final dot (RFC 5321 §2.3.5,
 * RFC 5890 §2.3.2.1). Only the parsers here make one, so that nobody compares, or asks a suffix list about, what is none.
 */
export type DomainName = DnsName & { readonly [isParsed]: true };

export type DomainParse = { kind: 'ok'; ascii: DomainName; unicode: string } | { kind: 'invalid'; reason: string };

/**
 * Parses a mail domain as typed by a person into its A-label and U-label form (UTS 46), lower case, without a final dot.
 * Refuses what can't carry mail: single labels, addresses, labels over 63 or names over 253 octets (RFC 1035 §2.3.4).
 */
export function parseDomain(text: string): DomainParse {
  const trimmed = text.trim().replace(/\.$/, '');
  const invalid = (reason: string): DomainParse => ({ kind: 'invalid', reason });
  // Nearly every name: what stands there is what it means.
  if (trimmed.length <= 253 && LDH.test(trimmed) && !NOT_PLAIN.test(trimmed))
    return { kind: 'ok', ascii: trimmed as DomainName, unicode: trimmed };
  if (trimmed === '') return invalid('it is empty');
  // domainToASCII is a URL host parser; these characters mean something there and nothing in a domain name.
  const strange = /[\s%/\\?#@:[\]<>^|\p{Cc}]/u.exec(trimmed);
  if (strange) return invalid(`it contains ${JSON.stringify(strange[0])}, which a domain name can’t contain`);
  const ascii = domainToASCII(trimmed);
  if (ascii === '' || !ascii.split('.').every(isOneSpelling)) return invalid('it is not a valid internationalised name (UTS 46)');
  if (ascii.length > 253) return invalid('it is longer than 253 octets');
  const labels = ascii.split('.');
  if (labels.length < 2) return invalid('it has only one label; a mail domain needs at least two');
  for (const label of labels) {
    if (label === '') return invalid('it has an empty label (two dots in a row)');
    if (label.length > 63) return invalid(`the label "${label.slice(0, 20)}…" is longer than 63 octets`);
    if (!/^[a-z0-9]([a-z0-9-]*[a-z0-9])?$/.test(label))
      return invalid(`the label "${label}" may hold only letters, digits and inner hyphens`);
  }
  if (/^\d+$/.test(labels.at(-1) ?? '')) return invalid('it is a number or an IP address, not a name');
  return { kind: 'ok', ascii: ascii as DomainName, unicode: domainToUnicode(ascii) };
}

/** RFC 5890 §2.3.2.1: an A-label is what its U-label encodes to. Node 24 lets others pass where the whole name is ASCII. */
function isOneSpelling(label: string): boolean {
  if (!label.startsWith('xn--')) return true;
  const unicode = domainToUnicode(label);
  return !unicode.startsWith('xn--') && domainToASCII(unicode) === label;
}

const ASKABLE = /^[\x21-\x2d\x2f-\x7e]{1,63}(?:\.[\x21-\x2d\x2f-\x7e]{1,63})*$/;

/** A name out of a record, a message or a configuration, as it can be asked for; null when nobody can. */
export function dnsName(text: string): DnsName | null {
  const name = bareName(text);
  return name.length <= 253 && ASKABLE.test(name) ? (name as DnsName) : null;
}

const LDH = /^(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?$/;

/** Labels that stand for others, and names whose last label a URL's host would be read as a number for. */
const NOT_PLAIN = /(?:^|\.)xn--|\.(?:\d+|0x[0-9a-f]*)$/;

/** The name that a program wrote, in a command, a message or a record; null when it is none. */
export function domainName(text: string): DomainName | null {
  const name = bareName(text);
  return name.length <= 253 && LDH.test(name) && !/\.\d+$/.test(name) ? (name as DomainName) : null;
}

/** The same name for comparing DNS names: lower case, no final dot. */
export const bareName = (name: string): string => name.toLowerCase().replace(/\.$/, '');
