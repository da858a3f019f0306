import { type Address, addressKey, formatAddress, withoutTag } from '../address/mailbox-address.ts';
import type { Role } from '../vocabulary.ts';

export interface KnownDomain {
  id: number;
  role: Role;
  /** The domain whose names all of its addresses mean. */
  twinOf: string | null;
  /** Where addresses lead that nobody has. */
  catchAll: string | null;
}

/** What has no room: the mailbox, or all of its domain's together. */
export type Full = 'mailbox' | 'domain';

/** What the house knows of an address; answers come from the store. */
export interface Directory {
  domain(name: string): KnownDomain | null;
  /** `copyTo`: where copies of what it gets are forwarded. */
  mailbox(local: string, domain: string): { id: number; full: Full | null; copyTo: readonly string[] } | null;
  alias(local: string, domain: string): readonly string[] | null;
  /** Where the owner of an address has gone; `isLed`: mail is led there for now. */
  moved(local: string, domain: string): { to: string | null; isLed: boolean } | null;
  /** The provider's own address that stands in where nobody has one that must reach somebody, and who pays for what leaves by it. */
  standIn(local: string, domain: string): { address: string; payer: string } | null;
  /** The sender to whom a return address of ours leads back; null when it is none. */
  returnTo(local: string, domain: string): { kind: 'ok'; address: string } | { kind: 'expired' } | null;
  /** The trial whose message is sent to that address; `over` when it has its message, or its time has passed. */
  trial(local: string, domain: string): { kind: 'open'; id: number } | { kind: 'over' } | null;
}

export type Destination =
  | { kind: 'mailbox'; mailboxId: number; address: string }
  /** A message that is scored, and goes to nobody. */
  | { kind: 'trial'; trialId: number; address: string }
  /** `payer` is the domain here whose alias leads out, null when the recipient itself is outside. */
  | { kind: 'outside'; address: string; domain: string; payer: string | null }
  /** The domain is ours to receive for, and its mailboxes are on another server. */
  | { kind: 'handed'; address: string; domain: string; role: 'pass-on' | 'standby' }
  /** A target of an alias here that can't take mail now: queued like mail that leaves, tried again, and reported when that does not help. */
  | { kind: 'unready'; address: string; domain: string; mailboxId: number | null };

/** A rule that was applied on the way, for people who ask why. */
export type RoutingStep =
  | { rule: 'twin'; from: string; to: string }
  | { rule: 'alias' | 'catch-all' | 'moved' | 'copy'; name: string; to: readonly string[] }
  | { rule: 'tag'; from: string; to: string }
  | { rule: 'return'; to: string };

export type Routing =
  | { kind: 'ok'; destinations: Destination[]; steps: RoutingStep[] }
  | { kind: 'unknown-mailbox'; domain: string }
  | { kind: 'full'; address: string; what: Full; mailboxId: number }
  | { kind: 'return-expired' }
  | { kind: 'trial-over'; address: string }
  /** The owner has gone elsewhere; null where it is not told where. */
  | { kind: 'moved'; address: string; to: string | null }
  | { kind: 'loop'; address: string }
  /** An alias that leads to more addresses than one message may go to. */
  | { kind: 'too-many'; address: string; most: number };

/** Aliases of aliases end here; deeper is a loop in all but name. */
const DEEPEST = 10;
/** Addresses that one recipient, or all recipients of one message, may lead to. */
export const MOST_DESTINATIONS = 1000;
/** Targets that are followed for one recipient: lists that overlap cost look-ups without adding addresses. */
const MOST_FOLLOWED = 2000;
/** What ends the whole expansion: nobody may be left out unsaid. */
const ENDS_ALL: ReadonlySet<Routing['kind']> = new Set(['too-many', 'loop']);

/**
 * Where an address leads, the one place where that is decided: twins, return addresses, mailboxes, aliases (nested, to many), tags and
 * the catch-all. Every target of an alias becomes a destination (`unready` when it can't take mail now), or the whole address is refused.
 */
export function routeRecipient(recipient: Address, directory: Directory, parse: (text: string) => Address | null): Routing {
  const seen = new Set<string>();
  const steps: RoutingStep[] = [];

  /** The provider pays for all that its own address leads to, whatever domains that goes through. */
  let provider: string | null = null;

  let followed = 0;
  /** What stands in the way of a target; it is the answer when no target can take mail. */
  let problem = null as Routing | null;
  const tooMany: Routing = { kind: 'too-many', address: addressKey(recipient), most: MOST_DESTINATIONS };

  const follow = (address: Address, depth: number, payer: string | null): Routing => {
    const domain = directory.domain(address.domain);
    if (!domain || domain.role === 'away') return ok([{ kind: 'outside', address: formatAddress(address), domain: address.domain, payer }]);
    followed += 1;
    if (depth > DEEPEST) return { kind: 'loop', address: addressKey(address) };
    if (followed > MOST_FOLLOWED) return tooMany;
    if (domain.twinOf !== null) {
      steps.push({ rule: 'twin', from: address.domain, to: domain.twinOf });
      return follow({ ...address, domain: domain.twinOf }, depth + 1, payer);
    }
    if (domain.role !== 'home') return ok([{ kind: 'handed', address: formatAddress(address), domain: address.domain, role: domain.role }]);
    return atHome(address, domain, depth);
  };

  const atHome = (address: Address, domain: KnownDomain, depth: number): Routing => {
    const whole = address.local.toLowerCase();
    const back = directory.returnTo(whole, address.domain);
    if (back?.kind === 'expired') return { kind: 'return-expired' };
    if (back) {
      const target = parse(back.address);
      steps.push({ rule: 'return', to: back.address });
      return target ? follow(target, depth + 1, address.domain) : { kind: 'return-expired' };
    }
    const trial = directory.trial(whole, address.domain);
    if (trial?.kind === 'over') return { kind: 'trial-over', address: addressKey(address) };
    if (trial) return ok([{ kind: 'trial', trialId: trial.id, address: addressKey(address) }]);
    for (const local of new Set([whole, withoutTag(whole)])) {
      const name = `${local}@${address.domain}`;
      const mailbox = directory.mailbox(local, address.domain);
      const targets = mailbox ? null : directory.alias(local, address.domain);
      const moved = mailbox || targets ? null : directory.moved(local, address.domain);
      const standIn = mailbox || targets || moved ? null : directory.standIn(local, address.domain);
      if (!mailbox && !targets && !moved && !standIn) continue;
      if (local !== whole) steps.push({ rule: 'tag', from: addressKey(address), to: name });
      const full: Routing | null = mailbox?.full ? { kind: 'full', address: name, what: mailbox.full, mailboxId: mailbox.id } : null;
      if (full && (depth === 0 || mailbox?.copyTo.length === 0)) return full;
      if (full) problem = full;
      if (mailbox) {
        const own: Destination = full ? unready(name, address.domain, full) : { kind: 'mailbox', mailboxId: mailbox.id, address: name };
        const copies = mailbox.copyTo.length === 0 ? ok([]) : followAll('copy', name, mailbox.copyTo, address.domain, depth);
        return copies.kind === 'ok' ? ok([own, ...copies.destinations.filter((one) => one.address !== name)]) : copies;
      }
      if (moved)
        return moved.isLed && moved.to
          ? followAll('moved', name, [moved.to], address.domain, depth)
          : { kind: 'moved', address: name, to: moved.to };
      if (standIn) {
        provider = standIn.payer;
        const led = followAll('alias', name, [standIn.address], provider, depth);
        provider = null;
        return led;
      }
      return followAll('alias', name, targets ?? [], address.domain, depth);
    }
    if (domain.catchAll !== null) return followAll('catch-all', `*@${address.domain}`, [domain.catchAll], address.domain, depth);
    return { kind: 'unknown-mailbox', domain: address.domain };
  };

  const followAll = (
    rule: 'alias' | 'catch-all' | 'moved' | 'copy',
    name: string,
    targets: readonly string[],
    payer: string,
    depth: number,
  ): Routing => {
    // An alias that was already followed adds nobody; a circle that reaches nobody is a loop.
    if (seen.has(name)) return ok([]);
    seen.add(name);
    steps.push({ rule, name, to: targets });
    const reached = new Map<string, Destination>();
    for (const target of targets) {
      const address = parse(target);
      const routing: Routing = address
        ? follow(address, depth + 1, provider ?? payer)
        : { kind: 'unknown-mailbox', domain: recipient.domain };
      if (ENDS_ALL.has(routing.kind)) return routing;
      // A full mailbox may have room later: the sender hears of that rather than of what never changes.
      if (routing.kind !== 'ok') problem = problem?.kind === 'full' ? problem : routing;
      const found: readonly Destination[] =
        routing.kind === 'ok' ? routing.destinations : [unready(target, address?.domain ?? recipient.domain, routing)];
      for (const one of found) if (one.kind !== 'unready' || !reached.has(one.address)) reached.set(one.address, one);
      if (reached.size > MOST_DESTINATIONS) return tooMany;
    }
    return ok([...reached.values()]);
  };

  const unready = (address: string, domain: string, routing: Routing): Destination => ({
    kind: 'unready',
    address,
    domain,
    mailboxId: routing.kind === 'full' ? routing.mailboxId : null,
  });
  const ok = (destinations: Destination[]): Routing => ({ kind: 'ok', destinations, steps });
  const whole = follow(recipient, 0, null);
  if (whole.kind !== 'ok' || whole.destinations.some((one) => one.kind !== 'unready')) return whole;
  return problem ?? { kind: 'loop', address: addressKey(recipient) };
}

/** The names of aliases, catch-alls and moved addresses that an address led through. */
export const addressesThrough = (steps: readonly RoutingStep[]): string[] =>
  steps.flatMap((one) =>
    one.rule === 'alias' || one.rule === 'catch-all' || one.rule === 'moved' || one.rule === 'copy'
      ? [one.name]
      : one.rule === 'twin'
        ? [`${one.from} (twin of ${one.to})`]
        : [],
  );
