import { REVERSE_REQUEST } from '../../texts/en/letters.ts';
import { keyRecordText } from '../dkim/key-record.ts';
import { organisationalDomain } from '../dmarc/record.ts';
import type { KeyType, Policy, Role, Subject } from '../vocabulary.ts';
import { reverseName } from './reverse-name.ts';

/** One record to publish, in the forms that DNS tools ask for. */
export interface SheetRecord {
  subject: Subject;
  type: 'MX' | 'TXT' | 'SRV' | 'A' | 'AAAA' | 'PTR';
  /** The full name, without a final dot. */
  name: string;
  /** The name as a form wants it that appends the zone by itself; null where the zone isn't known (reverse records). */
  relativeName: string | null;
  /** As one string. */
  value: string;
  /** As quoted strings of at most 255 octets; null where a record has no quotes. */
  quoted: string | null;
  /** Who has to publish it. */
  where: 'domain' | 'host' | 'address-owner';
}

/** The ways in for mail programs that can be announced (RFC 6186, RFC 8314 §5.1), and in which order: IMAP before POP3, for who can do both (RFC 6186 §3.4). */
export const CLIENT_SERVICES = { submissions: 0, submission: 10, imaps: 0, imap: 10, pop3s: 20, pop3: 30 } as const;
export type ClientService = keyof typeof CLIENT_SERVICES;

export interface HostFacts {
  name: string;
  addresses: readonly string[];
  /** Hosts that keep mail while this one is down, first choice first. */
  standby?: readonly string[];
  /** Domains that the smart hosts ask to have included in SPF records. */
  outletIncludes?: readonly string[];
  /** The name that a domain's people connect to; the host's own where nothing else is said. */
  mailServer?: string;
  /** What mail programs can connect to, each with its port. */
  services?: Partial<Record<ClientService, number>>;
}

export interface SheetKey {
  selector: string;
  type: KeyType;
  publicKey: string;
}

export interface SheetFacts {
  domain: string;
  host: HostFacts;
  /** Keys that sign, or are prepared to. */
  keys: readonly SheetKey[];
  /** How far the domain has come with DMARC. */
  stage: Policy;
  /** `home`, where nothing else is said. */
  role?: Role;
  /** Whether mail of the domain leaves from here; by default where its mailboxes are here. */
  sends?: boolean;
}

const MX_STEP = 10;
export const mxText = (host: string, place = 0): string => `${MX_STEP * (place + 1)} ${host}`;
/** Our MX records: the host, then the standby hosts. */
export const mxTexts = ({ name, standby = [] }: HostFacts): string[] => [name, ...standby].map(mxText);
export const spfText = ({ name, outletIncludes = [] }: HostFacts): string =>
  ['v=spf1', `a:${name}`, ...outletIncludes.map((one) => `include:${one}`), '-all'].join(' ');
export const dmarcText = (domain: string, stage: Policy): string => `v=DMARC1; p=${stage}; rua=mailto:postmaster@${domain}`;
export const keyName = (selector: string, domain: string): string => `${selector}._domainkey.${domain}`;

/** A name below its zone, as a form wants it: `@` for the zone itself. */
export function relativeTo(name: string, zone: string): string {
  return name === zone ? '@' : name.slice(0, -zone.length - 1);
}

/** A text as quoted strings of at most 255 octets (RFC 1035 §3.3.14); they are read back joined without a space. */
export function quotedStrings(text: string): string {
  const pieces = text.match(/[\s\S]{1,255}/g) ?? [''];
  return pieces.map((piece) => `"${piece.replace(/(["\\])/g, '\\$1')}"`).join(' ');
}

/** A record of the domain's own zone. */
export function domainRecord(domain: string, subject: Subject, type: 'MX' | 'TXT' | 'SRV', name: string, value: string): SheetRecord {
  return {
    subject,
    type,
    name,
    relativeName: relativeTo(name, domain),
    value,
    quoted: type === 'TXT' ? quotedStrings(value) : null,
    where: 'domain',
  };
}

export const mxRecords = (domain: string, host: HostFacts): SheetRecord[] =>
  mxTexts(host).map((value) => domainRecord(domain, 'mx', 'MX', domain, value));
export const keyRecord = (domain: string, key: SheetKey): SheetRecord =>
  domainRecord(domain, 'dkim', 'TXT', keyName(key.selector, domain), keyRecordText(key.publicKey, key.type));
export const dmarcRecord = (domain: string, value: string): SheetRecord => domainRecord(domain, 'dmarc', 'TXT', `_dmarc.${domain}`, value);

/** Composes every record that the domain and its host should publish; the sheet, the check and the zone file all read this one. */
export function composeSheet({ domain, host, keys, stage, role = 'home', sends = role === 'home' }: SheetFacts): SheetRecord[] {
  return [
    // Behind the domain's own server, or elsewhere, the MX records are not ours to say.
    ...(role === 'home' ? mxRecords(domain, host) : role === 'pass-on' ? mxRecords(domain, { ...host, standby: [] }) : []),
    ...(sends ? [domainRecord(domain, 'spf', 'TXT', domain, spfText(host))] : []),
    ...(sends ? keys.map((key) => keyRecord(domain, key)) : []),
    dmarcRecord(domain, dmarcText(domain, stage)),
    ...(role === 'home' ? discoveryRecords(domain, host) : []),
    ...(sends || role !== 'away' ? hostRecords(host) : []),
  ];
}

/** Where mail clients find us by the domain alone (RFC 6186 §3); TLS from the first octet is preferred (RFC 8314 §5.1). */
export function discoveryRecords(domain: string, { name, mailServer = name, services = {} }: HostFacts): SheetRecord[] {
  return (Object.keys(CLIENT_SERVICES) as ClientService[]).flatMap((service) => {
    const port = services[service];
    const value = `${CLIENT_SERVICES[service]} 1 ${port} ${mailServer}`;
    return port === undefined ? [] : [domainRecord(domain, 'discovery', 'SRV', `_${service}._tcp.${domain}`, value)];
  });
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
        quoted: null,
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
        quoted: null,
        where: 'address-owner',
      }),
    ),
  ];
}

/** The text with which the reverse records are asked for: the address block's owner runs that zone, not we. `leadsThere`: whether the forward records were seen. */
export function reverseRequest(host: HostFacts, leadsThere: boolean): string {
  return [
    REVERSE_REQUEST.before(host.name),
    '',
    ...host.addresses.map(
      (address) => `  ${REVERSE_REQUEST.record(address, host.name)}\n    (${reverseName(address)}. IN PTR ${host.name}.)`,
    ),
    '',
    `${REVERSE_REQUEST.after}${leadsThere ? ` ${REVERSE_REQUEST.forwardIsThere}` : ''}`,
    REVERSE_REQUEST.thanks,
  ].join('\n');
}
