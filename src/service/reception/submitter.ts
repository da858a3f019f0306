import { type Address, addressKey, formatAddress, parseAddress, withoutTag } from '../../core/address/mailbox-address.ts';
import { domainSide } from '../../core/address/sides.ts';
import { REPLIES, type Reply } from '../../core/smtp/replies.ts';
import { findDomainFacts } from '../../store/domains.ts';
import type { Payer } from '../../store/ledger.ts';
import { aliasesOf } from '../../store/mailboxes.ts';
import type { Network } from '../../store/networks.ts';
import { sendableAddresses } from '../../store/shared-mailboxes.ts';
import { knownDomain } from '../acceptance/routing.ts';
import type { SignedIn } from '../access/sign-in-mailbox.ts';
import type { ReceptionDeps } from './deps.ts';

/** Somebody whose mail is carried outside: a signed-in mailbox, or a client in a network that may submit. */
export type Submitter = { kind: 'mailbox'; mailbox: SignedIn } | { kind: 'network'; network: Network };

/** Whether the submitter may write as that address, in the envelope or the From field. */
export function mayUse(context: ReceptionDeps, submitter: Submitter, text: string): boolean {
  const parsed = parseAddress(text, true);
  if (parsed.kind === 'invalid') return false;
  if (submitter.kind === 'network') {
    const { anyDomain, domains } = submitter.network;
    return anyDomain || domains.includes(parsed.address.domain);
  }
  // The mailbox's own address, with any tag, the aliases that lead to it, and the same names in twins of its domain.
  const { address } = submitter.mailbox;
  const twinOf = knownDomain(context, parsed.address.domain)?.twinOf;
  const meant: Address = twinOf ? { ...parsed.address, domain: twinOf } : parsed.address;
  const plain = `${withoutTag(meant.local.toLowerCase())}@${meant.domain}`;
  const isOf = (mailbox: string): boolean =>
    plain === mailbox || addressKey(meant) === mailbox || aliasesOf(context.db, mailbox).includes(plain);
  // A shared mailbox's, where it may be used so.
  return isOf(address) || sendableAddresses(context.db, submitter.mailbox.id).some(isOf);
}

export const notYours = (submitter: Submitter, address: string): Reply =>
  submitter.kind === 'mailbox'
    ? REPLIES.senderNotYours(address, submitter.mailbox.address)
    : REPLIES.networkMayNot(submitter.network.cidr, address);

/**
 * The domain that signs what a submitter sends: the author's own, so that the signature is aligned (RFC 7489 §3.1.1), a twin's mail with the twin's key;
 * null when that is none of ours.
 */
export function signerOf(context: ReceptionDeps, submitter: Submitter, author: string): string | null {
  const domain = domainSide(author);
  if (knownDomain(context, domain)) return domain;
  return submitter.kind === 'mailbox' ? submitter.mailbox.domain : null;
}

/** Who pays for what a submitter sends; a network pays for itself, and for the domain that its sender is of. */
export function payerOf(context: ReceptionDeps, submitter: Submitter, sender: Address | null): Payer {
  if (submitter.kind === 'mailbox') {
    const { id, domainId, domain, address } = submitter.mailbox;
    return {
      customerId: findDomainFacts(context.db, domain)?.customerId ?? null,
      domainId,
      mailboxId: id,
      networkId: null,
      domain,
      mailbox: address,
      kind: 'submitted',
    };
  }
  const facts = sender ? findDomainFacts(context.db, sender.domain) : undefined;
  return {
    customerId: facts?.customerId ?? null,
    domainId: facts?.id ?? null,
    mailboxId: null,
    networkId: submitter.network.id,
    domain: sender?.domain ?? submitter.network.cidr,
    mailbox: sender ? formatAddress(sender) : null,
    kind: 'submitted',
  };
}

/** Who pays when a domain here leads mail out again; the host's own name is the provider, whom only the server's limits bind. */
export function forwardingPayer(context: ReceptionDeps, domain: string): Payer | null {
  const facts = findDomainFacts(context.db, domain);
  if (!facts && domain === context.host.name)
    return { customerId: null, domainId: null, mailboxId: null, networkId: null, domain, mailbox: null, kind: 'forwarded' };
  if (!facts) return null;
  return { customerId: facts.customerId, domainId: facts.id, mailboxId: null, networkId: null, domain, mailbox: null, kind: 'forwarded' };
}
