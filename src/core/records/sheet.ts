import { keyRecordText } from '../dkim/key-record.ts';
import { organisationalDomain } from '../dmarc/record.ts';
import { reverseName } from './reverse-name.ts';

export type SheetSubject = 'mx' | 'spf' | 'dkim' | 'dmarc' | 'host' | 'reverse';

/** One record to publish, in the forms that DNS tools ask for. */
export interface SheetRecord {
  subject: SheetSubject;
  type: 'MX' | 'TXT' | 'A' | 'AAAA' | 'PTR';
  /** The full name, without a final dot. */
  name: string;
  /** The name as a form wants it that appends the zone by itself; null where the zone isn't known (reverse records). */
  relativeName: string | null;
  /** As one string. */
  value: string;
  /** Who has to publish it. */
  where: 'domain' | 'host' | 'address-owner';
}

export interface HostFacts {
  name: string;
  addresses: readonly string[];
}

export interface SheetFacts {
  domain: string;
  host: HostFacts;
  keys: readonly { selector: string; publicKey: string }[];
}

export const MX_PREFERENCE = 10;
export const mxText = (host: string): string => `${MX_PREFERENCE} ${host}`;
export const spfText = (host: string): string => `v=spf1 a:${host} -all`;
export const dmarcText = (domain: string): string => `v=DMARC1; p=none; rua=mailto:postmaster@${domain}`;
export const keyName = (selector: string, domain: string): string => `${selector}._domainkey.${domain}`;

/** A name below its zone, as a form wants it: `@` for the zone itself. */
export function relativeTo(name: string, zone: string): string {
  return name === zone ? '@' : name.slice(0, -zone.length - 1);
}

/** Composes every record that the domain and its host should publish; the sheet, the check and the zone file all read this one. */
export function composeSheet({ domain, host, keys }: SheetFacts): SheetRecord[] {
  const own = (subject: SheetSubject, type: 'MX' | 'TXT', name: string, value: string): SheetRecord => ({
    subject,
    type,
    name,
    relativeName: relativeTo(name, domain),
    value,
    where: 'domain',
  });
  return [
    own('mx', 'MX', domain, mxText(host.name)),
    own('spf', 'TXT', domain, spfText(host.name)),
    ...keys.map((key) => own('dkim', 'TXT', keyName(key.selector, domain), keyRecordText(key.publicKey))),
    own('dmarc', 'TXT', `_dmarc.${domain}`, dmarcText(domain)),
    ...hostRecords(host),
  ];
}

/** The host's own forward and reverse records; the reverse ones are asked for from whoever holds the address block. */
export function hostRecords(host: HostFacts): SheetRecord[] {
  const zone = organisationalDomain(host.name);
  return [
    ...host.addresses.map(
      (address): SheetRecord => ({
        subject: 'host',
        type: address.includes(':') ? 'AAAA' : 'A',
        name: host.name,
        relativeName: relativeTo(host.name, zone),
        value: address,
        where: 'host',
      }),
    ),
    ...host.addresses.map(
      (address): SheetRecord => ({
        subject: 'reverse',
        type: 'PTR',
        name: reverseName(address),
        relativeName: null,
        value: host.name,
        where: 'address-owner',
      }),
    ),
  ];
}
