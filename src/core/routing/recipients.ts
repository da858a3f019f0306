import { type Address, addressKey, formatAddress, withoutTag } from '../address/mailbox-address.ts';

export type Role = 'home' | 'pass-on' | 'standby' | 'away';

/** What the house knows of an address; answers come from the store. */
export interface Directory {
  domain(name: string): { id: number; role: Role } | null;
  mailbox(local: string, domain: string): { id: number; full: boolean } | null;
  alias(local: string, domain: string): readonly string[] | null;
}

export type Destination = { kind: 'mailbox'; mailboxId: number; address: string } | { kind: 'outside'; address: string; domain: string };

export type Routing =
  | { kind: 'ok'; destinations: Destination[]; through: string[] }
  | { kind: 'unknown-mailbox'; domain: string }
  | { kind: 'full'; address: string }
  | { kind: 'not-yet'; domain: string; role: Role }
  | { kind: 'loop'; address: string };

/** Aliases of aliases end here; deeper is a loop in all but name. */
const DEEPEST = 10;
const MOST_DESTINATIONS = 500;

/**
 * Where an address leads: aliases are followed to mailboxes here and addresses outside, each once.
 * Within an alias the targets that can't take mail are left out as long as one can.
 */
export function routeRecipient(recipient: Address, directory: Directory, parse: (text: string) => Address | null): Routing {
  const seen = new Set<string>();
  const through: string[] = [];
  const follow = (address: Address, depth: number): Routing => {
    const key = addressKey(address);
    const domain = directory.domain(address.domain);
    if (!domain || domain.role === 'away')
      return { kind: 'ok', destinations: [{ kind: 'outside', address: formatAddress(address), domain: address.domain }], through };
    if (domain.role !== 'home') return { kind: 'not-yet', domain: address.domain, role: domain.role };
    if (depth > DEEPEST) return { kind: 'loop', address: key };
    for (const local of new Set([address.local.toLowerCase(), withoutTag(address.local.toLowerCase())])) {
      const mailbox = directory.mailbox(local, address.domain);
      if (mailbox)
        return mailbox.full
          ? { kind: 'full', address: key }
          : { kind: 'ok', destinations: [{ kind: 'mailbox', mailboxId: mailbox.id, address: `${local}@${address.domain}` }], through };
      const targets = directory.alias(local, address.domain);
      if (!targets) continue;
      const name = `${local}@${address.domain}`;
      if (seen.has(name)) return { kind: 'loop', address: name };
      seen.add(name);
      through.push(name);
      return followAll(targets, depth);
    }
    return { kind: 'unknown-mailbox', domain: address.domain };
  };
  const followAll = (targets: readonly string[], depth: number): Routing => {
    const reached = new Map<string, Destination>();
    let problem: Routing = { kind: 'loop', address: addressKey(recipient) };
    for (const target of targets) {
      const address = parse(target);
      const routing: Routing = address ? follow(address, depth + 1) : { kind: 'unknown-mailbox', domain: recipient.domain };
      if (routing.kind !== 'ok') problem = routing;
      else for (const one of routing.destinations) if (reached.size < MOST_DESTINATIONS) reached.set(one.address, one);
    }
    return reached.size === 0 ? problem : { kind: 'ok', destinations: [...reached.values()], through };
  };
  return follow(recipient, 0);
}
