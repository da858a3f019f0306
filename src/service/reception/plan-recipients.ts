import { type Address, formatAddress } from '../../core/address/mailbox-address.ts';
import { domainSide } from '../../core/address/sides.ts';
import { type Destination, type Full, MOST_DESTINATIONS, type Routing } from '../../core/routing/recipients.ts';
import { returnAddress } from '../../core/routing/return-address.ts';
import { REPLIES, type Reply } from '../../core/smtp/replies.ts';
import type { RecipientParameters } from '../../core/smtp/server/envelope.ts';
import { LARGEST_SCORED } from '../../core/trial/reading.ts';
import { HOST_ITSELF, knownDomain, mustReachSomebody, postmasterTrouble, route, TRIAL_PREFIX } from '../acceptance/routing.ts';
import { stoppable } from '../limits/stops-in-force.ts';
import { listedBy } from './block-lists.ts';
import { type Client, type Refused, refused } from './client.ts';
import type { ReceptionDeps } from './deps.ts';
import { askPrimary } from './primary.ts';
import { forwardingPayer } from './submitter.ts';
import type { Transaction } from './transaction.ts';

/** What is said of a full mailbox, or of a domain whose mailboxes are full together, as the domain wants it. */
const FULL_REPLIES = {
  mailbox: { 'put-off': REPLIES.mailboxFull, refuse: REPLIES.mailboxFullForGood },
  domain: { 'put-off': REPLIES.domainFull, refuse: REPLIES.domainFullForGood },
};

/** The reply about something full, as its domain wants it. */
export const fullReply = (context: ReceptionDeps, { address, what }: { address: string; what: Full }): Reply =>
  FULL_REPLIES[what][knownDomain(context, domainSide(address))?.fullMailbox ?? 'put-off'](address);

type Route = { kind: 'route'; routing: Extract<Routing, { kind: 'ok' }> } | Refused;

/** Where a recipient leads, as RCPT asks; refused when it leads nowhere, or something stands in the way. */
export async function routeOf(context: ReceptionDeps, client: Client, transaction: Transaction, recipient: Address): Promise<Route> {
  const { submitter } = client;
  const written = formatAddress(recipient);
  const known = knownDomain(context, recipient.domain);
  if (!submitter) {
    const isHere = known !== null && known.role !== 'away';
    transaction.domain ??= isHere ? recipient.domain : null;
    if (!isHere) return refused(REPLIES.noRelay(recipient.domain), known ? 'role away' : 'not a domain of this server: no relaying');
    // What is scored comes from anywhere: that the address is listed is part of the score.
    if (!client.isTrusted && !mustReachSomebody(recipient.local) && !isTrial(context, recipient)) {
      client.listed ??= listedBy(context, client.address);
      const list = await client.listed;
      if (list !== null) return refused(REPLIES.blockListed(client.address, list), `block list ${list}`);
    }
    if (known.mostBytes !== null) {
      if ((transaction.envelope.parameters.size ?? 0) > known.mostBytes)
        return refused(REPLIES.domainTooBig(recipient.domain, known.mostBytes), `largest message of ${recipient.domain}`);
      if (known.mostBytes < (transaction.sizeLimit?.most ?? Number.POSITIVE_INFINITY))
        transaction.sizeLimit = { domain: recipient.domain, most: known.mostBytes };
    }
  }
  const routing = route(context, recipient, transaction.envelope.parameters.size ?? 0);
  switch (routing.kind) {
    case 'unknown-mailbox':
      // As long as the host's postmaster is not set up, such mail waits with its sender instead of being lost.
      return mustReachSomebody(recipient.local)
        ? refused(REPLIES.nobodyYet(written), 'nobody is set up for this address yet')
        : refused(REPLIES.unknownMailbox(written), 'no mailbox, alias or catch-all');
    case 'full':
      return refused(fullReply(context, routing), routing.what === 'domain' ? 'storage of the domain' : 'quota');
    case 'moved':
      return refused(routing.to === null ? REPLIES.moved(written) : REPLIES.movedTo(written, routing.to), 'an address that has moved');
    case 'trial-over':
      return refused(REPLIES.trialOver(routing.address), 'address of a message that is scored');
    case 'too-many':
      return refused(REPLIES.tooManyBehind(routing.address, routing.most), 'addresses that an alias may lead to');
    case 'loop':
      return refused(REPLIES.aliasLoop(routing.address), 'aliases');
    case 'return-expired':
      return refused(REPLIES.returnExpired, 'return address');
  }
  // The provider's own address stands in: until it takes mail, the message waits with its sender.
  if (mustReachSomebody(recipient.local) && routing.destinations.some((one) => one.kind === 'outside' && one.payer === context.host.name)) {
    const trouble = await postmasterTrouble(context);
    if (trouble !== null) return refused(REPLIES.nobodyYet(written), trouble);
  }
  if (routing.steps.some((one) => one.rule === 'return') && transaction.envelope.sender !== null)
    return refused(REPLIES.returnForBounces, 'return address');
  // Postmaster and abuse of the host itself go along with whoever else gets the message.
  if (!submitter && known && known.id !== HOST_ITSELF) {
    if (transaction.judge !== null && transaction.judge !== known.judge) return refused(REPLIES.otherJudge, 'judge');
    transaction.judge = known.judge;
  }
  if (routing.destinations.some((one) => one.kind === 'trial')) {
    if ((transaction.envelope.parameters.size ?? 0) > LARGEST_SCORED)
      return refused(REPLIES.domainTooBig(written, LARGEST_SCORED), 'largest message that is scored');
    if (LARGEST_SCORED < (transaction.sizeLimit?.most ?? Number.POSITIVE_INFINITY))
      transaction.sizeLimit = { domain: written, most: LARGEST_SCORED };
  }
  return (await refuseDestinations(context, routing.destinations, known)) ?? { kind: 'route', routing };
}

const isTrial = ({ host }: ReceptionDeps, { local, domain }: Address): boolean =>
  domain === host.name && local.toLowerCase().startsWith(TRIAL_PREFIX);

/** What stands in the way of a destination: a pause, or the server that has its mailboxes. */
async function refuseDestinations(
  context: ReceptionDeps,
  destinations: readonly Destination[],
  known: ReturnType<typeof knownDomain>,
): Promise<Refused | null> {
  for (const one of destinations) {
    const name = domainSide(one.address);
    const domain = one.kind === 'outside' ? null : knownDomain(context, name);
    const mailboxId = one.kind === 'mailbox' ? one.mailboxId : null;
    const stop = context.stops.find(
      stoppable({ mailboxId, domainId: domain?.id ?? null, customerId: domain?.customerId ?? null }),
      'receiving',
    );
    if (stop) return refused(REPLIES.receivingStopped(stop.text), stop.kind);
    if (one.kind !== 'handed' || !domain) continue;
    const answer = await askPrimary(context, one, domain);
    if (answer.kind === 'no')
      return refused(
        answer.text === '' ? REPLIES.unknownMailbox(one.address) : REPLIES.primaryRefuses(one.address, answer.text),
        domain.recipientList === null ? 'its own server says so' : 'the list of recipients',
      );
    if (answer.kind === 'unknown') return refused(REPLIES.primaryUnknown(one.address), 'its own server does not answer');
  }
  // The domain that was written may be paused itself, though its alias leads elsewhere.
  const stop = known
    ? context.stops.find(stoppable({ mailboxId: null, domainId: known.id, customerId: known.customerId }), 'receiving')
    : null;
  return stop ? refused(REPLIES.receivingStopped(stop.text), stop.kind) : null;
}

/** Notes where a recipient leads, with room for what somebody pays for; refused when there is none. */
export function planRecipients(
  context: ReceptionDeps,
  { submitter }: Client,
  transaction: Transaction,
  { destinations }: { destinations: readonly Destination[] },
  { written, parameters: { notify, original } }: { written: string; parameters: RecipientParameters },
): Refused | null {
  const fresh = destinations.filter((one) => !transaction.planned.has(one.address));
  // RFC 5321 §4.5.3.1.10: the others come in a transaction of their own.
  if (transaction.planned.size > 0 && transaction.planned.size + fresh.length > MOST_DESTINATIONS)
    return refused(REPLIES.tooManyRecipients, 'addresses that a message may lead to');
  const isExpanded = destinations.length > 1;
  const paid = fresh.filter((one) => one.kind === 'outside');
  const through = paid.find((one) => one.payer !== null)?.payer ?? null;
  const payer = transaction.submittedBy ?? (through === null ? null : forwardingPayer(context, through));
  let fullScope: string | null = null;
  if (paid.length > 0 && payer) {
    const stop = context.stops.find(stoppable(payer), 'sending');
    if (stop) return refused(REPLIES.sendingStopped(stop.text), stop.kind);
    const promised = transaction.promise(payer, paid.length);
    if (promised.kind === 'refused') return promised;
    if (promised.kind === 'held') fullScope = promised.account;
  }
  // RFC 3461 §5.2.7: for an address that leads to several, success is told here once.
  const words = isExpanded ? (notify?.filter((one) => one !== 'SUCCESS') ?? null) : notify;
  if (isExpanded && notify?.includes('SUCCESS')) transaction.expanded.push({ recipient: written, original });
  for (const one of fresh) {
    const isPaid = one.kind === 'outside' && payer !== null;
    transaction.planned.set(one.address, {
      destination: one,
      held: isPaid && fullScope !== null ? 'limit' : null,
      fullScope: isPaid ? fullScope : null,
      isCharged: isPaid && fullScope === null,
      notify: words === null ? null : words.length === 0 ? 'NEVER' : words.join(','),
      original,
      onwardSender: submitter ? null : onwardSenderOf(context, transaction, one),
    });
  }
  transaction.recipients.push(written);
  return null;
}

/** Mail from outside that a domain leads out again goes as from an address of that domain, so that SPF passes for it. */
function onwardSenderOf(context: ReceptionDeps, { id, envelope: { sender } }: Transaction, one: Destination): string | null {
  if (one.kind !== 'outside' || one.payer === null || sender === null) return null;
  if (knownDomain(context, sender.domain)?.role === 'home') return null;
  return returnAddress(id, one.payer, context.returnKey);
}
