import { reverseName } from '../core/records/reverse-name.ts';
import type { ZoneRecord } from './dns-server.ts';
import { BLOCK_LIST, CLINIC_HOST, HOST, LETTER_MILL, MOVING, OLD_HOST, OLD_MAIL_HOST, PROVIDERS, RELAY, RESERVE } from './world.ts';

/** The records that don't depend on keys: the hosts, their reverse names and the other providers. */
export function worldRecords(): ZoneRecord[] {
  const hosts = [
    ...RESERVE.addresses.map((address) => ({ name: RESERVE.name, address })),
    RELAY,
    LETTER_MILL,
    OLD_HOST,
    OLD_MAIL_HOST,
    CLINIC_HOST,
    ...PROVIDERS.map((one) => ({ name: `mx.${one.domain}`, address: one.address })),
  ];
  return [
    ...HOST.addresses.map((address): ZoneRecord => ({ name: HOST.name, type: address.includes(':') ? 'AAAA' : 'A', value: address })),
    ...HOST.addresses.map((address): ZoneRecord => ({ name: reverseName(address), type: 'PTR', value: HOST.name })),
    ...hosts.flatMap((host): ZoneRecord[] => [
      { name: host.name, type: host.address.includes(':') ? 'AAAA' : 'A', value: host.address },
      { name: reverseName(host.address), type: 'PTR', value: host.name },
    ]),
    // Its old provider lets caches keep them for a day.
    { name: MOVING.domain, type: 'MX', value: `10 ${OLD_MAIL_HOST.name}`, ttl: 86_400 },
    { name: MOVING.domain, type: 'TXT', value: `v=spf1 mx a:${HOST.name} -all` },
    { name: 'spf.boxoffice.example', type: 'TXT', value: 'v=spf1 ip4:203.0.113.96/28 include:eu.boxoffice.example ~all' },
    { name: 'eu.boxoffice.example', type: 'TXT', value: 'v=spf1 a:out1.boxoffice.example a:out2.boxoffice.example ~all' },
    { name: 'out1.boxoffice.example', type: 'A', value: '198.51.100.141' },
    { name: 'out2.boxoffice.example', type: 'A', value: '198.51.100.142' },
    // RFC 5782 §5: the entry that proves that the list works. The other is an address of a machine that was taken over.
    { name: `2.0.0.127.${BLOCK_LIST}`, type: 'A', value: '127.0.0.2' },
    { name: `99.113.0.203.${BLOCK_LIST}`, type: 'A', value: '127.0.0.2' },
    ...PROVIDERS.flatMap((one): ZoneRecord[] => [
      { name: one.domain, type: 'MX', value: `10 mx.${one.domain}` },
      { name: one.domain, type: 'TXT', value: `v=spf1 ip4:${one.address} -all` },
      { name: `_dmarc.${one.domain}`, type: 'TXT', value: 'v=DMARC1; p=reject' },
    ]),
  ];
}

interface Key {
  selector: string;
  publicKey: string;
}

const mxRecord = (domain: string): ZoneRecord => ({ name: domain, type: 'MX', value: `10 ${HOST.name}` });
const reserveRecord = (domain: string): ZoneRecord => ({ name: domain, type: 'MX', value: `20 ${RESERVE.name}` });
const spfRecord = (domain: string): ZoneRecord => ({ name: domain, type: 'TXT', value: `v=spf1 a:${HOST.name} -all` });
const dkimRecord = (domain: string, key: Key): ZoneRecord => ({
  name: `${key.selector}._domainkey.${domain}`,
  type: 'TXT',
  value: `v=DKIM1; k=rsa; p=${key.publicKey}`,
});
const dmarcRecord = (domain: string): ZoneRecord => ({
  name: `_dmarc.${domain}`,
  type: 'TXT',
  value: `v=DMARC1; p=quarantine; rua=mailto:postmaster@${domain}`,
});

/** What is right for any domain whose mail lives here. */
export const goodRecords = (domain: string, key: Key): ZoneRecord[] => [
  mxRecord(domain),
  reserveRecord(domain),
  spfRecord(domain),
  dkimRecord(domain, key),
  dmarcRecord(domain),
];

/** What each customer has typed into their DNS, right or wrong (docs/guide.md has the table). */
export function customerRecords(domain: string, key: Key): ZoneRecord[] {
  const reserve = reserveRecord(domain);
  const [mx, spf, dkim, dmarc] = [mxRecord(domain), spfRecord(domain), dkimRecord(domain, key), dmarcRecord(domain)];
  switch (domain) {
    case 'rutaverde.example':
      return [mx, reserve, { ...spf, value: 'v=spf1 ip4:203.0.113.150 -all' }, dkim];
    case 'marisma-museum.example':
      // Tickets are sent by a service of its own. The DNS form appended the zone a second time.
      return [
        mx,
        reserve,
        { ...spf, value: `v=spf1 a:${HOST.name} include:spf.boxoffice.example -all` },
        { ...dkim, name: `${dkim.name}.${domain}` },
        { ...dmarc, name: `${dmarc.name}.${domain}` },
      ];
    case 'tallernuno.example':
      return [mx, reserve, { ...mx, value: `10 ${OLD_HOST.name}` }, spf, dkim, dmarc];
    case 'coropuerto.example':
      // A form that takes 255 characters and drops the rest.
      return [
        mx,
        reserve,
        spf,
        { ...spf, value: 'v=spf1 ip4:203.0.113.160 ~all' },
        { ...dkim, value: dkim.value.slice(0, 255) },
        { ...dmarc, value: `v=DMARC1; p=reject; rua=mailto:postmaster@${domain}` },
      ];
    case 'ibisclinic.example':
      return [
        { ...mx, value: `10 ${CLINIC_HOST.name}` },
        { ...spf, value: 'v=spf1 mx -all' },
        { ...dmarc, value: `v=DMARC1; p=reject; rua=mailto:postmaster@${domain}` },
      ];
    default:
      return goodRecords(domain, key);
  }
}
