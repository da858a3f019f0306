import { mayTest } from '../../core/address/reach.ts';
import type { Roots } from '../../core/certificates/chain.ts';
import type { Lookup } from '../../core/records/answers.ts';
import type { RehearsedHost } from '../../core/rehearsal/order.ts';
import type { RehearsalDeps } from './deps.ts';
import { type OpenRehearsal, RehearsalFault } from './rehearsal-door.ts';

/** Where the steps of a rehearsal are taken: DNS and connections as they are from there. */
export interface RehearsalWorld {
  lookup: Lookup;
  /** The zones’ own name servers. */
  source: Lookup;
  open: OpenRehearsal;
  roots: Roots;
  /** The addresses to which connections are made; null for any. */
  goesTo: readonly string[] | null;
  now(): number;
  /** The host that is rehearsed. */
  host: RehearsedHost;
}

/** This host, as those have to know it who rehearse it. */
export const rehearsedHost = ({ host, certificates }: RehearsalDeps): RehearsedHost => ({
  name: host.name,
  addresses: host.addresses,
  fingerprints: certificates.all.map((one) => one.chain.facts.fingerprint),
  renewed: certificates.all.filter((one) => one.source === 'fetched').flatMap((one) => one.chain.facts.names),
});

/** Of one rehearsal: what it follows is anybody’s DNS. */
const MOST_CONNECTIONS = 32;

/** The world as it is from here. What was looked up before is forgotten. */
export function worldHere(context: RehearsalDeps, host: RehearsedHost): RehearsalWorld {
  context.dns.forget();
  let connections = 0;
  const open: OpenRehearsal = async (address, port) => {
    if (!mayTest(address, context.host)) throw new RehearsalFault('connection', 'not-public');
    connections += 1;
    if (connections > MOST_CONNECTIONS) throw new RehearsalFault('connection', 'too-many');
    return context.rehearse(address, port);
  };
  return {
    lookup: context.lookup,
    source: context.dns.openViews().source,
    open,
    goesTo: null,
    roots: context.certificates.roots,
    now: context.clock.now,
    host,
  };
}
