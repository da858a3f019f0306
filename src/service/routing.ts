import { type Address, parseAddress } from '../core/address/mailbox-address.ts';
import { type Directory, type Routing, routeRecipient } from '../core/routing/recipients.ts';
import { type DomainLimits, findDomainLimits } from '../store/domains.ts';
import { findAlias, lookUpMailbox } from '../store/mailboxes.ts';
import type { ServiceContext } from './context.ts';

const ALWAYS_REACHED = ['postmaster', 'abuse'];
/** Whether an address must reach somebody wherever it is (RFC 5321 §4.5.1, RFC 2142). */
export const mustReachSomebody = (local: string): boolean => ALWAYS_REACHED.includes(local.toLowerCase());
/** The host's own name is no domain in the store; only postmaster and abuse are known there. */
export const HOST_ITSELF = 0;

/** A domain's row when its mail lives here, or the host itself: whoever must be reached there, is reached. */
export function knownDomain({ db, host }: ServiceContext, name: string): DomainLimits | null {
  return (
    findDomainLimits(db, name) ?? (name === host.name ? { id: HOST_ITSELF, role: 'home', judge: 'note', hour: null, day: null } : null)
  );
}

/** Where an address leads, by what the store knows now. Mail to postmaster and abuse reaches the host's postmaster if nobody else (RFC 2142). */
export function route(context: ServiceContext, recipient: Address): Routing {
  const { db, host } = context;
  const directory: Directory = {
    domain: (name) => knownDomain(context, name),
    mailbox: (local, domain) => {
      const found = lookUpMailbox(db, local, domain);
      return found ? { id: found.id, full: found.full === 1 } : null;
    },
    alias: (local, domain) =>
      findAlias(db, local, domain)?.targets ??
      (mustReachSomebody(local) && `${local}@${domain}` !== host.postmaster ? [host.postmaster] : null),
  };
  return routeRecipient(recipient, directory, (text) => {
    const parsed = parseAddress(text);
    return parsed.kind === 'ok' ? parsed.address : null;
  });
}

/** Whether the host's postmaster is an address that takes mail. */
export function postmasterIsReached(context: ServiceContext): boolean {
  const parsed = parseAddress(context.host.postmaster);
  const kind = parsed.kind === 'ok' ? route(context, parsed.address).kind : 'unknown-mailbox';
  return kind === 'ok' || kind === 'full';
}
