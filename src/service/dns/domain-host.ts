import type { HostFacts } from '../../core/records/sheet.ts';
import type { Domain } from '../../store/domains.ts';
import { mayNetworksSend } from '../../store/networks.ts';
import { listOutlets } from '../../store/outlets.ts';
import type { DnsDeps } from './deps.ts';

/** The host as one domain's records must name it: with the includes of the outlets through which its mail may leave. */
export function hostFor({ db, host, mailServer }: DnsDeps, domain: Pick<Domain, 'name' | 'customer' | 'mailName' | 'twinOf'>): HostFacts {
  const includes = listOutlets(db).flatMap(({ isOn, spfInclude, senders }) => {
    const carries = isOn && (senders.isAny || senders.customers.includes(domain.customer) || senders.domains.includes(domain.name));
    return carries && spfInclude !== null ? [spfInclude] : [];
  });
  const { name, addresses, standby = [], services = {}, outletIncludes = [] } = host;
  const asked = includes.length === 0 ? outletIncludes : [...new Set([...outletIncludes, ...includes])];
  return { name, addresses, standby, outletIncludes: asked, mailServer: mailServer(domain), services };
}

/** Whether mail of a domain may leave from here: its mailboxes are here, or a network may send as it. */
export const sendsHere = ({ db }: DnsDeps, { id, role }: Pick<Domain, 'id' | 'role'>): boolean =>
  role === 'home' || mayNetworksSend(db, id);
