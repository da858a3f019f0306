import ipaddr from 'ipaddr.js';

export interface MacroFacts {
  sender: string;
  domain: string;
  clientAddress: string;
  helo: string;
  /** For the text of an explanation only (RFC 7208 §7.2): who receives, and when (seconds since 1970). */
  receiver?: string;
  at?: number;
  /** The validated name of the client for %{p}, `unknown` when there is none (RFC 7208 §7.3). */
  validatedName: string;
}

/** Expands a domain-spec (RFC 7208 §7); names longer than 253 octets lose labels from the left (§7.3). */
export function expandMacros(spec: string, facts: MacroFacts): string {
  let name = expandText(spec, facts);
  while (name.length > 253 && name.includes('.')) name = name.slice(name.indexOf('.') + 1);
  return name;
}

/** RFC 3986 §2.3: all but the unreserved characters. */
const urlEscaped = (text: string): string =>
  encodeURIComponent(text).replace(/[!'()*]/g, (one) => `%${one.charCodeAt(0).toString(16).toUpperCase()}`);

/** Whether a text for people keeps the grammar of macros, with the letters that are for such texts (RFC 7208 §6.2, §7.1). */
export const isExplanation = (text: string): boolean =>
  /^[\x20-\x7e]+$/.test(text) && !text.replace(/%\{[slodiphcrtv](?:[1-9]\d*)?r?[.\-+,/_=]*\}|%[%_-]/gi, '').includes('%');

/** Expands the macros of a text of any length, as of an explanation (RFC 7208 §6.2). */
export function expandText(spec: string, facts: MacroFacts): string {
  return spec.replace(/%\{([slodipvhcrt])(\d*)(r?)([.\-+,/_=]*)\}|%([%_-])/gi, (_all, letter, digits, reverse, delimiters, escaped) => {
    if (escaped) return escaped === '%' ? '%' : escaped === '_' ? ' ' : '%20';
    const value = macroValue(String(letter).toLowerCase(), facts);
    let parts = value.split(delimiters ? new RegExp(`[${String(delimiters).replace(/[-/]/g, '\\$&')}]`) : '.');
    if (reverse) parts = parts.reverse();
    if (digits) parts = parts.slice(-Math.max(1, Number(digits)));
    const text = parts.join('.');
    // §7.3: an upper-case letter asks for URL escaping.
    return letter === String(letter).toUpperCase() ? urlEscaped(text) : text;
  });
}

function macroValue(letter: string, facts: MacroFacts): string {
  const at = facts.sender.lastIndexOf('@');
  switch (letter) {
    case 's':
      return facts.sender;
    case 'l':
      return facts.sender.slice(0, at);
    case 'o':
      return facts.sender.slice(at + 1);
    case 'd':
      return facts.domain;
    case 'h':
      return facts.helo;
    case 'p':
      return facts.validatedName;
    case 'c':
      return facts.clientAddress;
    case 'r':
      return facts.receiver ?? 'unknown';
    case 't':
      return String(facts.at ?? 0);
    case 'v':
      return facts.clientAddress.includes(':') ? 'ip6' : 'in-addr';
    default:
      return dottedAddress(facts.clientAddress);
  }
}

/** %{i}: IPv4 as is, IPv6 as dotted nibbles (RFC 7208 §7.3). */
function dottedAddress(address: string): string {
  if (!address.includes(':')) return address;
  const bytes = ipaddr.parse(address).toByteArray();
  return [...bytes.map((byte) => byte.toString(16).padStart(2, '0')).join('')].join('.');
}
