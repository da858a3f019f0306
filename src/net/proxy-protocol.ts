import ipaddr from 'ipaddr.js';

export type ProxyHeader =
  | { kind: 'more' }
  | { kind: 'invalid' }
  | { kind: 'ok'; length: number; source: { address: string; port: number } | null };

const SIGNATURE = Buffer.from('0d0a0d0a000d0a515549540a', 'hex');
const LONGEST_V1 = 107;
const LONGEST_V2 = 16 + 2048;

/** Reads a PROXY protocol header, version 1 or 2, at the start of a connection. `source` is null for the proxy's own connections. */
export function readProxyHeader(bytes: Buffer): ProxyHeader {
  const compared = Math.min(bytes.length, SIGNATURE.length);
  if (bytes.subarray(0, compared).equals(SIGNATURE.subarray(0, compared)) && bytes.length > 0)
    return bytes.length < 16 ? { kind: 'more' } : version2(bytes);
  return version1(bytes);
}

function version1(bytes: Buffer): ProxyHeader {
  const end = bytes.indexOf('\r\n');
  if (end < 0)
    return bytes.length > LONGEST_V1 || !'PROXY '.startsWith(bytes.toString('latin1', 0, 6)) ? { kind: 'invalid' } : { kind: 'more' };
  const line = bytes.toString('latin1', 0, end);
  if (/^PROXY UNKNOWN( |$)/.test(line)) return { kind: 'ok', length: end + 2, source: null };
  const found = /^PROXY TCP([46]) (\S+) (\S+) (\d{1,5}) (\d{1,5})$/.exec(line);
  const family = found?.[1] === '4' ? 'ipv4' : 'ipv6';
  const address = found?.[2] ?? '';
  if (!found || end > LONGEST_V1 || !isAddress(address, family)) return { kind: 'invalid' };
  return { kind: 'ok', length: end + 2, source: { address: ipaddr.parse(address).toString(), port: Number(found[4]) } };
}

/** Addresses as the specification writes them; the library takes short forms too. */
const isAddress = (text: string, family: 'ipv4' | 'ipv6'): boolean =>
  family === 'ipv4' ? ipaddr.IPv4.isValidFourPartDecimal(text) : ipaddr.IPv6.isValid(text);

function version2(bytes: Buffer): ProxyHeader {
  const versionAndCommand = bytes[12] ?? 0;
  const family = (bytes[13] ?? 0) >> 4;
  const length = 16 + bytes.readUInt16BE(14);
  if (versionAndCommand >> 4 !== 2 || (versionAndCommand & 15) > 1 || length > LONGEST_V2) return { kind: 'invalid' };
  if (bytes.length < length) return { kind: 'more' };
  const octets = family === 1 ? 4 : family === 2 ? 16 : 0;
  if ((versionAndCommand & 15) === 0 || octets === 0) return { kind: 'ok', length, source: null };
  if (length < 16 + octets * 2 + 4) return { kind: 'invalid' };
  const address = ipaddr.fromByteArray([...bytes.subarray(16, 16 + octets)]).toString();
  return { kind: 'ok', length, source: { address, port: bytes.readUInt16BE(16 + octets * 2) } };
}

/** The version 1 header that claims `source` for a connection to `destination`. */
export function proxyHeader(source: string, destination: string, port: number): string {
  const six = source.includes(':') && destination.includes(':');
  return `PROXY TCP${six ? 6 : 4} ${source} ${destination} ${49152 + (port % 1000)} ${port}\r\n`;
}
