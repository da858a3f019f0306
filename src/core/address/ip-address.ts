import ipaddr from 'ipaddr.js';

/** Whether a text is an IPv4 address in four parts or an IPv6 address; shorter old spellings of IPv4 are none. */
export const isIpAddress = (text: string): boolean => ipaddr.isValid(text) && (text.includes(':') || text.split('.').length === 4);

/** An address as it is compared and shown: an IPv4 address mapped into IPv6 (RFC 4291 §2.5.5.2) is that IPv4 address. */
export function plainAddress(text: string): string {
  if (!text.includes(':') || !ipaddr.isValid(text)) return text;
  const parsed = ipaddr.parse(text) as ipaddr.IPv6;
  return parsed.isIPv4MappedAddress() ? parsed.toIPv4Address().toString() : text;
}

/**
 * Whom an address stands for when somebody's connections or guesses are counted: who has one IPv6 address has all of its 64 bits
 * (RFC 4291 §2.5.1), so these are one, `2001:db8:0:1::/64`. What is no address stands for itself.
 */
export function whoseAddress(text: string): string {
  const address = text.replace(/\/64$/, '');
  if (!isIpAddress(address)) return text;
  const parsed = ipaddr.process(address);
  if (parsed.kind() === 'ipv4') return parsed.toString();
  const { parts } = parsed as ipaddr.IPv6;
  return `${new ipaddr.IPv6([...parts.slice(0, 4), 0, 0, 0, 0]).toString()}/64`;
}

/** The network of 24 bits of an IPv4 address, of 48 bits of an IPv6 address (RFC 6177): what one organisation usually has. */
export function wideAddress(text: string): string {
  const address = text.replace(/\/\d+$/, '');
  if (!isIpAddress(address)) return text;
  const parsed = ipaddr.process(address);
  if (parsed.kind() === 'ipv4') return `${(parsed as ipaddr.IPv4).octets.slice(0, 3).join('.')}.0/24`;
  return `${new ipaddr.IPv6([...(parsed as ipaddr.IPv6).parts.slice(0, 3), 0, 0, 0, 0, 0]).toString()}/48`;
}

/** A network of one address. */
export const oneAddress = (address: string): string => `${address}/${address.includes(':') ? 128 : 32}`;
/** An address before a port. */
export const bracketed = (address: string): string => (address.includes(':') ? `[${address}]` : address);
