import ipaddr from 'ipaddr.js';
import { isIpAddress } from '../../core/address/ip-address.ts';
import type { Database } from '../../store/database.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/networks.ts';
import { noteRemoved } from '../../store/removed-scopes.ts';
import { badInput, Problem } from '../base/problem.ts';
import type { DirectoryDeps } from './deps.ts';
import { requireDomain } from './domains.ts';

/** A network in its one spelling: host bits zero, IPv6 shortened. */
export function parseNetwork(text: string): string | null {
  const [address = '', length, ...more] = text.trim().split('/');
  if (!isIpAddress(address) || more.length > 0) return null;
  const parsed = ipaddr.parse(address);
  const most = parsed.kind() === 'ipv4' ? 32 : 128;
  if (length !== undefined && (!/^\d{1,3}$/.test(length) || Number(length) > most)) return null;
  const cidr = `${parsed.toString()}/${length ?? most}`;
  const base = parsed.kind() === 'ipv4' ? ipaddr.IPv4.networkAddressFromCIDR(cidr) : ipaddr.IPv6.networkAddressFromCIDR(cidr);
  return `${base.toString()}/${length ?? most}`;
}

export const listNetworks = ({ db }: DirectoryDeps): store.Network[] => store.listNetworks(db);

export function requireNetwork({ db }: DirectoryDeps, text: string): store.Network {
  const cidr = parseNetwork(text);
  const found = cidr === null ? undefined : store.findNetwork(db, cidr);
  if (!found) throw new Problem('not-found', `There is no network ${text.slice(0, 80)}.`, 'List them: tenedor network list').about(text);
  return found;
}

export interface NetworkValues {
  note?: string | undefined;
  maySubmit?: boolean | undefined;
  /** Whether it may submit as any domain; what is not said is so where no domains are named. */
  anyDomain?: boolean | undefined;
  /** Domains here as which it may submit; an empty list is nobody. */
  domains?: readonly string[] | undefined;
}

function apply(context: DirectoryDeps, network: store.Network, values: NetworkValues): void {
  const { db } = context;
  const domains = values.domains ?? (values.anyDomain ? [] : network.domains);
  const maySubmit = values.maySubmit ?? network.maySubmit;
  const domainIds = [...new Set(domains)].map((name) => requireDomain(context, name).id);
  if (domainIds.length > 0 && !maySubmit)
    throw badInput('domains', 'This network may not send, so sender domains have no effect.', 'Allow sending, or leave the domains out.');
  // Who lets a network send and names no domains means any; who names an empty list means none.
  const unsaid = values.domains !== undefined ? false : network.anyDomain || (!network.maySubmit && network.domains.length === 0);
  const anyDomain = maySubmit && (values.anyDomain ?? unsaid);
  if (anyDomain && domainIds.length > 0) throw badInput('domains', '“any” and named domains exclude each other.', 'Leave one of them out.');
  store.setNetwork(db, network.id, { note: (values.note ?? network.note).trim(), maySubmit, anyDomain, domainIds });
}

/** Makes a network known: mail from it is judged and noted, never refused or filed as junk for that; it may submit where that is said. */
export async function addNetwork(context: DirectoryDeps, text: string, values: NetworkValues): Promise<store.Network> {
  const { db, clock } = context;
  const cidr = parseNetwork(text);
  if (cidr === null)
    throw badInput('cidr', `“${text.slice(0, 80)}” is not a network.`, 'Write it like 198.51.100.0/24 or 2001:db8:7::/48.');
  // A slip of the hand here would open the server to most of the world.
  const length = Number(cidr.split('/')[1]);
  if (length < (cidr.includes(':') ? 32 : values.maySubmit ? 16 : 8))
    throw badInput('cidr', `${cidr} is too large for a trusted network.`, 'Add the networks of single organisations.');
  await db.commit(() => {
    if (store.findNetwork(db, cidr))
      throw new Problem('exists-already', `The network ${cidr} is already trusted.`, 'List them: tenedor network list', 'cidr');
    store.addNetwork(db, cidr, '', clock.now());
    apply(context, requireNetwork(context, cidr), values);
    const { note, maySubmit, anyDomain, domains } = requireNetwork(context, cidr);
    const data = { cidr, note, maySubmit, anyDomain, domains };
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'network-added', data });
  });
  return requireNetwork(context, cidr);
}

export async function changeNetwork(context: DirectoryDeps, text: string, values: NetworkValues): Promise<store.Network> {
  const { db, clock } = context;
  return db.commit(() => {
    const network = requireNetwork(context, text);
    if (values.maySubmit && !network.cidr.includes(':') && Number(network.cidr.split('/')[1]) < 16)
      throw badInput('maySubmit', `${network.cidr} is too large to send without signing in.`, 'Add the networks of single organisations.');
    apply(context, network, values);
    const { cidr, note, maySubmit, anyDomain, domains } = requireNetwork(context, text);
    const data = { cidr, note, maySubmit, anyDomain, domains };
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'network-changed', data });
    return requireNetwork(context, text);
  });
}

export async function removeNetwork(context: DirectoryDeps, text: string): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const { id, cidr } = requireNetwork(context, text);
    noteRemoved(db, { kind: 'network', id, name: cidr, domain: null, at: clock.now() });
    store.removeNetwork(db, id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'network-removed', data: { cidr } });
  });
}

/** The known network that an address belongs to, the smallest of several. */
export function knownNetworkOf(db: Database, address: string): store.Network | null {
  if (!ipaddr.isValid(address)) return null;
  const parsed = ipaddr.process(address);
  const within = ({ cidr }: store.Network): boolean => {
    const network = ipaddr.parseCIDR(cidr);
    return parsed.kind() === network[0].kind() && parsed.match(network);
  };
  const length = ({ cidr }: store.Network): number => Number(cidr.split('/')[1]);
  const found = store.listNetworks(db).filter(within);
  return found.sort((one, other) => length(other) - length(one))[0] ?? null;
}
