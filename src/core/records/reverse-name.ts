import ipaddr from 'ipaddr.js';

/** The name under which an address has its reverse record (RFC 1035 §3.5, RFC 3596 §2.5). */
export function reverseName(address: string): string {
  const parsed = ipaddr.parse(address);
  if (parsed.kind() === 'ipv4') return `${address.split('.').reverse().join('.')}.in-addr.arpa`;
  const hex = parsed
    .toByteArray()
    .map((byte) => byte.toString(16).padStart(2, '0'))
    .join('');
  return `${[...hex].reverse().join('.')}.ip6.arpa`;
}

/** Whether two spellings mean one address. */
export function sameAddress(one: string, other: string): boolean {
  return (
    ipaddr.isValid(one) && ipaddr.isValid(other) && ipaddr.parse(one).toNormalizedString() === ipaddr.parse(other).toNormalizedString()
  );
}

/** The address as a block list has it: reversed as for reverse names, without their suffix (RFC 5782 §2.1, §2.4). */
export const listLabel = (address: string): string => reverseName(address).replace(/\.(in-addr|ip6)\.arpa$/, '');
