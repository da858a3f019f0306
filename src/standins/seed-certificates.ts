import type { ServiceContext } from '../service/app/context.ts';
import { addCertificate } from '../service/certificates/change-certificates.ts';
import { fetchCertificate } from '../service/certificates/fetch-certificate.ts';
import { changeDomain } from '../service/directory/domains.ts';
import type { StandInAuthority } from './authority.ts';
import type { StandInDns } from './dns-server.ts';
import { DOMAINS, HOST } from './world.ts';

const DAY = 24 * 3600_000;

/** Domains whose people connect to a name of their own; those of all others know the host’s. */
const OWN_NAMES = {
  /** All is well. */
  fetched: 'olmobakery.example',
  /** Its name still leads to the server that it had before. */
  elsewhere: 'marisma-museum.example',
  /** It leads here, but the domain lets another authority give certificates. */
  forbidden: 'tallernuno.example',
  /** Bought elsewhere, and nobody has thought of a new one. */
  ending: 'coropuerto.example',
};

/** What an administrator finds under Certificates: one that renews itself, one that waits, one that can’t be had, and one that ends soon. */
export async function seedCertificates(context: ServiceContext, dns: StandInDns, authority: StandInAuthority): Promise<void> {
  for (const { domain, role } of DOMAINS)
    if (role === 'home' && !Object.values(OWN_NAMES).includes(domain)) await changeDomain(context, domain, { mailName: 'host' });
  for (const domain of [OWN_NAMES.fetched, OWN_NAMES.forbidden, OWN_NAMES.ending])
    for (const address of HOST.addresses)
      dns.publish({ name: `mail.${domain}`, type: address.includes(':') ? 'AAAA' : 'A', value: address });
  dns.publish({ name: `mail.${OWN_NAMES.elsewhere}`, type: 'A', value: '198.51.100.23' });
  dns.publish({ name: OWN_NAMES.forbidden, type: 'CAA', value: '0 issue "registrar.example"' });
  await fetchCertificate(context, HOST.name);
  await fetchCertificate(context, `mail.${OWN_NAMES.fetched}`);
  const now = context.clock.now();
  const bought = await authority.give([`mail.${OWN_NAMES.ending}`], null, { from: now - 357 * DAY, to: now + 8 * DAY });
  await addCertificate(context, { certificate: bought.pem, key: bought.key ?? '' });
}

/** How the demo’s authority looks at names: it asks the world’s name servers, and connects to who has the host’s address only. */
export const authorityEyes = (
  values: (name: string, type: 'A' | 'TXT') => Promise<string[]>,
  challengePort: number,
): { http: (name: string, token: string) => Promise<string | null>; txt: (name: string) => Promise<string[]> } => ({
  http: async (name, token) => {
    if (!(await values(name, 'A')).some((one) => HOST.addresses.includes(one))) return null;
    const answer = await fetch(`http://127.0.0.1:${challengePort}/.well-known/acme-challenge/${token}`).catch(() => null);
    return answer?.ok ? answer.text() : null;
  },
  txt: (name) => values(name, 'TXT'),
});
