import { type Address, formatAddress } from '../core/address/mailbox-address.ts';
import type { Destination, Routing } from '../core/routing/recipients.ts';
import { returnAddress } from '../core/routing/return-address.ts';
import type { RecipientParameters } from '../core/smtp/command.ts';
import { REPLIES, type Reply } from '../core/smtp/replies.ts';
import { plainly } from './accept-message.ts';
import { listedBy } from './block-lists.ts';
import type { ServiceContext } from './context.ts';
import { askPrimary } from './primary.ts';
import { HOST_ITSELF, knownDomain, mustReachSomebody, route } from './routing.ts';
import { forwardingPayer, type Submitter, stoppable } from './submitter.ts';
import type { Transaction } from './transaction.ts';

/** The other end of a conversation, and what is known of it. */
export interface Client {
  address: string;
  /** Who sends from here to the outside; null for a server that brings mail. */
  submitter: Submitter | null;
  /** Whether its network is trusted, and so never judged by its greeting or by lists. */
  isTrusted: boolean;
  /** The block list that has its address, looked up once. */
  listed: Promise<string | null> | null;
}

type Way = { kind: 'way'; routing: Extract<Routing, { kind: 'ok' }> } | { kind: 'refused'; reply: Reply };

const refused = (reply: Reply): Way => ({ kind: 'refused', reply });

/** Where a recipient leads, as RCPT asks; refused when it leads nowhere, or something stands in the way. */
export async function findWay(context: ServiceContext, client: Client, transaction: Transaction, recipient: Address): Promise<Way> {
  const { submitter } = client;
  const written = formatAddress(recipient);
  const known = knownDomain(context, recipient.domain);
  if (!submitter) {
    const isHere = known !== null && known.role !== 'away';
    transaction.domain ??= isHere ? recipient.domain : null;
    if (!isHere) return refused(REPLIES.noRelay(recipient.domain));
    if (!client.isTrusted && !mustReachSomebody(recipient.local)) {
      client.listed ??= listedBy(context, client.address);
      const list = await client.listed;
      if (list !== null) return refused(REPLIES.blockListed(client.address, list));
    }
    if (known.mostBytes !== null) {
      if ((transaction.parameters.size ?? 0) > known.mostBytes) return refused(REPLIES.domainTooBig(recipient.domain, known.mostBytes));
      if (known.mostBytes < (transaction.smallest?.most ?? Number.POSITIVE_INFINITY))
        transaction.smallest = { domain: recipient.domain, most: known.mostBytes };
    }
  }
  const routing = route(context, recipient);
  switch (routing.kind) {
    case 'unknown-mailbox':
      // As long as the host's postmaster is not set up, such mail waits with its sender instead of being lost.
      return refused(mustReachSomebody(recipient.local) ? REPLIES.nobodyYet(written) : REPLIES.unknownMailbox(written));
    case 'full':
      return refused(REPLIES.mailboxFull(routing.address));
    case 'loop':
      return refused(REPLIES.aliasLoop(routing.address));
    case 'return-expired':
      return refused(REPLIES.returnExpired);
  }
  if (routing.steps.some((one) => one.rule === 'return') && transaction.sender !== null) return refused(REPLIES.returnForBounces);
  // Postmaster and abuse of the host itself go along with whoever else gets the message.
  if (!submitter && known && known.id !== HOST_ITSELF) {
    if (transaction.judge !== null && transaction.judge !== known.judge) return refused(REPLIES.otherJudge);
    transaction.judge = known.judge;
  }
  const reply = await refuseDestinations(context, routing.destinations, known);
  return reply ? refused(reply) : { kind: 'way', routing };
}

/** What stands in the way of a destination: a pause, or the server that has its mailboxes. */
async function refuseDestinations(
  context: ServiceContext,
  destinations: readonly Destination[],
  known: ReturnType<typeof knownDomain>,
): Promise<Reply | null> {
  for (const one of destinations) {
    const name = one.address.slice(one.address.lastIndexOf('@') + 1);
    const domain = one.kind === 'outside' ? null : knownDomain(context, name);
    const mailboxId = one.kind === 'mailbox' ? one.mailboxId : null;
    const stop = context.stops.find(
      stoppable({ mailboxId, domainId: domain?.id ?? null, customerId: domain?.customerId ?? null }),
      'receiving',
    );
    if (stop) return REPLIES.receivingStopped(stop.text);
    if (one.kind !== 'handed' || !domain) continue;
    const answer = await askPrimary(context, one, domain);
    if (answer.kind === 'no')
      return answer.text === '' ? REPLIES.unknownMailbox(one.address) : REPLIES.primaryRefuses(one.address, answer.text);
    if (answer.kind === 'unknown') return REPLIES.primaryUnknown(one.address);
  }
  // The domain that was written may be paused itself, though its alias leads elsewhere.
  const stop = known
    ? context.stops.find(stoppable({ mailboxId: null, domainId: known.id, customerId: known.customerId }), 'receiving')
    : null;
  return stop ? REPLIES.receivingStopped(stop.text) : null;
}

/** Notes where a recipient leads, with room for what somebody pays for; a reply when there is none. */
export function planRecipients(
  context: ServiceContext,
  { submitter }: Client,
  transaction: Transaction,
  { destinations }: { destinations: readonly Destination[] },
  { written, parameters: { notify, original } }: { written: string; parameters: RecipientParameters },
): Reply | null {
  const fresh = destinations.filter((one) => !transaction.planned.has(one.address));
  const isExpanded = destinations.length > 1;
  const paid = fresh.filter((one) => one.kind === 'outside');
  const through = paid.find((one) => one.payer !== null)?.payer ?? null;
  const payer = transaction.submittedBy ?? (through === null ? null : forwardingPayer(context, through));
  let holdAccount: string | null = null;
  if (paid.length > 0 && payer) {
    const stop = context.stops.find(stoppable(payer), 'sending');
    if (stop) return REPLIES.sendingStopped(stop.text);
    const promised = transaction.promise(payer, paid.length);
    if (promised.kind === 'refused') return promised.reply;
    if (promised.kind === 'held') holdAccount = promised.account;
  }
  // RFC 3461 §5.2.7: for an address that leads to several, success is told here once.
  const words = isExpanded ? (notify?.filter((one) => one !== 'SUCCESS') ?? null) : notify;
  if (isExpanded && notify?.includes('SUCCESS')) transaction.expanded.push({ recipient: written, original });
  for (const one of fresh) {
    const isPaid = one.kind === 'outside' && payer !== null;
    transaction.planned.set(one.address, {
      ...plainly(one),
      held: isPaid && holdAccount !== null ? 'limit' : null,
      holdAccount: isPaid ? holdAccount : null,
      charged: isPaid && holdAccount === null,
      notify: words === null ? null : words.length === 0 ? 'NEVER' : words.join(','),
      original,
      sendAs: submitter ? null : sendAs(context, transaction, one),
    });
  }
  transaction.recipients.push(written);
  return null;
}

/** Mail from outside that a domain leads out again goes as from an address of that domain, so that SPF passes for it. */
function sendAs(context: ServiceContext, { id, sender }: Transaction, one: Destination): string | null {
  if (one.kind !== 'outside' || one.payer === null || sender === null) return null;
  if (knownDomain(context, sender.domain)?.role === 'home') return null;
  return returnAddress(id, one.payer, context.returnKey);
}
