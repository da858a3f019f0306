import { type Address, parseAddress } from '../../core/address/mailbox-address.ts';
import { findMailHosts } from '../../core/routing/mail-hosts.ts';
import { type Directory, type Routing, routeRecipient } from '../../core/routing/recipients.ts';
import { RETURN_VALID_MS, readReturnAddress } from '../../core/routing/return-address.ts';
import { type DomainFacts, findDomainFacts } from '../../store/domains.ts';
import { findJourney } from '../../store/journeys.ts';
import { findAlias, lookUpMailbox } from '../../store/mailboxes.ts';
import { findMoved } from '../../store/moved-addresses.ts';
import { lookUpTrial } from '../../store/trials.ts';
import type { AcceptanceDeps } from './deps.ts';

const ALWAYS_REACHED = ['postmaster', 'abuse'];
/** Whether an address must reach somebody wherever it is (RFC 5321 §4.5.1, RFC 2142). */
export const mustReachSomebody = (local: string): boolean => ALWAYS_REACHED.includes(local.toLowerCase());
/** The host's own name is no domain in the store; only postmaster and abuse are known there. */
export const HOST_ITSELF = 0;

/** How the addresses of messages begin that are scored. */
export const TRIAL_PREFIX = 'try-';

const HOST_AS_DOMAIN: DomainFacts = {
  id: HOST_ITSELF,
  customerId: null,
  customer: null,
  role: 'home',
  mailRole: 'home',
  judge: 'note',
  twinOf: null,
  catchAll: null,
  mostBytes: null,
  fullMailbox: 'put-off',
  isSampled: false,
  primaryServer: null,
  recipientList: null,
};

/** What is known of a domain that is here, or of the host itself: whoever must be reached there, is reached. */
export function knownDomain({ db, host }: AcceptanceDeps, name: string): DomainFacts | null {
  return findDomainFacts(db, name) ?? (name === host.name ? HOST_AS_DOMAIN : null);
}

/** Where an address leads, by what the store knows now, for a message of so many octets as far as that is known. Mail to postmaster and abuse reaches the host's postmaster if nobody else (RFC 2142). */
export function route(context: AcceptanceDeps, recipient: Address, octets = 0, { withCopies = true } = {}): Routing {
  const { db, host, clock, returnKey } = context;
  const directory: Directory = {
    domain: (name) => {
      const found = knownDomain(context, name);
      return found === null || found.role === found.mailRole ? found : { ...found, role: found.mailRole };
    },
    mailbox: (local, domain) => {
      const found = lookUpMailbox(db, local, domain, octets);
      return found
        ? { id: found.id, full: found.full, copyTo: !withCopies || found.copyTo === '[]' ? [] : (JSON.parse(found.copyTo) as string[]) }
        : null;
    },
    alias: (local, domain) => findAlias(db, local, domain)?.targets ?? null,
    moved: (local, domain) => {
      const found = findMoved(db, local, domain);
      return found ? { to: found.to, isLed: (found.forwardUntil ?? 0) > clock.now() } : null;
    },
    // Such mail is the provider's affair, and so is what it costs when it leads outside.
    standIn: (local, domain) =>
      mustReachSomebody(local) && `${local}@${domain}` !== host.postmaster ? { address: host.postmaster, payer: host.name } : null,
    returnTo: (local, domain) => {
      const id = readReturnAddress(local, domain, returnKey);
      if (id === null) return null;
      const journey = findJourney(db, id);
      const isValid = journey?.sender && clock.now() - journey.at < RETURN_VALID_MS;
      return isValid ? { kind: 'ok', address: journey.sender ?? '' } : { kind: 'expired' };
    },
    trial: (local, domain) => (domain === host.name && local.startsWith(TRIAL_PREFIX) ? lookUpTrial(db, local, clock.now()) : null),
  };
  return routeRecipient(recipient, directory, (text) => {
    const parsed = parseAddress(text, true);
    return parsed.kind === 'ok' ? parsed.address : null;
  });
}

/** Why the host's postmaster can't get mail; null when it can, or when DNS does not say. */
export async function postmasterTrouble(context: AcceptanceDeps): Promise<string | null> {
  const { host, lookup } = context;
  const parsed = parseAddress(host.postmaster);
  const routing = parsed.kind === 'ok' ? route(context, parsed.address) : null;
  if (routing?.kind === 'full') return null;
  if (routing?.kind !== 'ok') return `${host.postmaster} takes no mail`;
  const outside = routing.destinations.find((one) => one.kind === 'outside');
  if (!outside) return null;
  const found = await findMailHosts(outside.domain, host, lookup, (values) => values);
  return found.kind === 'never' ? found.reason : null;
}
