import ipaddr from 'ipaddr.js';

/** Where an address leads: to the machine that asks or what is plugged in beside it, to networks that are nobody's outside, or to the world. */
export type Reach = 'own-machine' | 'inside' | 'public';

const OWN: ReadonlySet<string> = new Set(['loopback', 'unspecified', 'linkLocal']);
/** Addresses of documents (RFC 5737, RFC 3849) stand for public ones. */
const DOCUMENTATION = ['192.0.2.0/24', '198.51.100.0/24', '203.0.113.0/24', '2001:db8::/32'].map((one) => ipaddr.parseCIDR(one));

/** Where an address leads (RFC 6890 §2.2); what is no address leads nowhere public. An IPv4 address within an IPv6 one counts as that. */
export function reachOf(text: string): Reach {
  if (!ipaddr.isValid(text)) return 'inside';
  const parsed = ipaddr.parse(text);
  const inner = parsed.kind() === 'ipv6' ? innerIpv4(parsed as ipaddr.IPv6) : null;
  const address = inner ?? parsed;
  const range = address.range();
  if (OWN.has(range) || (address.kind() === 'ipv4' && (address as ipaddr.IPv4).octets[0] === 0)) return 'own-machine';
  if (range === 'unicast') return 'public';
  return DOCUMENTATION.some(([base, length]) => base.kind() === address.kind() && address.match([base, length] as never))
    ? 'public'
    : 'inside';
}

/** The IPv4 address to which an IPv6 one leads through a translator or a tunnel (RFC 4291 §2.5.5, 6052, 3056, 4380, 8215); null for none. */
function innerIpv4({ parts }: ipaddr.IPv6): ipaddr.IPv4 | null {
  const of = (high: number | undefined, low: number | undefined): ipaddr.IPv4 =>
    new ipaddr.IPv4([(high ?? 0) >> 8, (high ?? 0) & 255, (low ?? 0) >> 8, (low ?? 0) & 255]);
  const begins = (...some: number[]): boolean => some.every((part, at) => parts[at] === part);
  const isZero = (from: number, to: number): boolean => parts.slice(from, to).every((part) => part === 0);
  if (isZero(0, 5) && parts[5] === 0xffff) return of(parts[6], parts[7]);
  // ::a.b.c.d, but not :: and ::1.
  if (isZero(0, 6) && parts[6] !== 0) return of(parts[6], parts[7]);
  if (begins(0x64, 0xff9b) && (isZero(2, 6) || parts[2] === 1)) return of(parts[6], parts[7]);
  if (begins(0x2002)) return of(parts[1], parts[2]);
  if (begins(0x2001, 0)) return of((parts[6] ?? 0) ^ 0xffff, (parts[7] ?? 0) ^ 0xffff);
  return null;
}

/** Whether an address leads to the machine that asks, or to whatever is plugged in beside it, and to nobody outside (RFC 6890 §2.2). */
export const isOwnMachine = (text: string): boolean =>
  ipaddr.isValid(text) && (text.includes(':') || text.split('.').length === 4) && reachOf(text) === 'own-machine';

/**
 * Where tests may connect that anybody's DNS can direct: to public addresses and those of this host; with `toThisMachine`, which the
 * configuration sets for worlds of their own, to any.
 */
export const mayTest = (
  address: string,
  { addresses, toThisMachine }: { addresses: readonly string[]; toThisMachine?: boolean },
): boolean => toThisMachine === true || addresses.includes(address) || reachOf(address) === 'public';
