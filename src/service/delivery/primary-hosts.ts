import { isIpAddress } from '../../core/address/ip-address.ts';
import { isOwnMachine } from '../../core/address/reach.ts';
import { lookUp } from '../../core/records/answers.ts';
import { findMailHosts, type MailHosts } from '../../core/routing/mail-hosts.ts';
import type { RemoteHost } from '../base/ports.ts';
import { readHandTo } from '../directory/hand-to.ts';
import type { DeliveryDeps } from './deps.ts';

const MAIL_PORT = 25;

/** The hosts that have a domain's mailboxes: the one that was named, or those whose MX is better than ours. */
export async function primaryHosts(
  context: Pick<DeliveryDeps, 'lookup' | 'host'>,
  domain: string,
  primaryServer: string | null,
): Promise<{ kind: 'hosts'; hosts: RemoteHost[] } | Exclude<MailHosts, { kind: 'hosts' }>> {
  const { lookup, host } = context;
  const remote = (name: string, address: string, port: number): RemoteHost => ({
    name,
    address,
    port,
    tls: 'offered',
    verify: false,
    credentials: null,
    sourceIpv4: null,
    sourceIpv6: null,
  });
  if (primaryServer === null) {
    const found = await findMailHosts(domain, host, lookup, (values) => values);
    return found.kind === 'hosts' ? { kind: 'hosts', hosts: found.hosts.map((one) => remote(one.name, one.address, MAIL_PORT)) } : found;
  }
  const { name, port } = readHandTo(primaryServer);
  return addressesOf(context, name, (address) => remote(name, address, port));
}

/** All addresses of a host that was named by hand, IPv6 first. */
export async function addressesOf(
  { lookup, host }: Pick<DeliveryDeps, 'lookup' | 'host'>,
  name: string,
  make: (address: string) => RemoteHost,
): Promise<{ kind: 'hosts'; hosts: RemoteHost[] } | Exclude<MailHosts, { kind: 'hosts' }>> {
  const isAllowed = (address: string): boolean => host.toThisMachine || !isOwnMachine(address);
  const inward: Exclude<MailHosts, { kind: 'hosts' }> = {
    kind: 'later',
    reason: `${name} points to this machine, which the configuration does not allow (outgoing.to_this_machine)`,
  };
  if (isIpAddress(name)) return isAllowed(name) ? { kind: 'hosts', hosts: [make(name)] } : inward;
  const hosts: RemoteHost[] = [];
  let failure: string | null = null;
  let isInward = false;
  for (const type of ['AAAA', 'A'] as const) {
    const answer = await lookUp(lookup, name, type);
    if (answer.kind === 'found') {
      const allowed = answer.values.filter(isAllowed);
      isInward ||= allowed.length < answer.values.length;
      hosts.push(...allowed.map(make));
    } else if (answer.kind === 'failed') failure = answer.reason;
  }
  if (hosts.length > 0) return { kind: 'hosts', hosts };
  if (isInward) return inward;
  // A host that somebody has typed in may be mended by them: never final.
  return { kind: 'later', reason: failure ? `no answer for the address of ${name}: ${failure}` : `${name} has no address` };
}
