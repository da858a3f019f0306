import { formatAddress } from '../../core/address/mailbox-address.ts';
import { REPLIES } from '../../core/smtp/replies.ts';
import { knownDomain } from '../acceptance/routing.ts';
import { stoppable } from '../limits/stops-in-force.ts';
import { type Client, type Refused, refused } from './client.ts';
import type { ReceptionDeps } from './deps.ts';
import { mayUse, notYours, payerOf } from './submitter.ts';
import type { Transaction } from './transaction.ts';

/** Whether somebody who submits may write as the sender of a transaction, and who pays for it; null when all is well. Strangers may write as anybody here. */
export function acceptSender(context: ReceptionDeps, { submitter }: Client, transaction: Transaction): Refused | null {
  if (!submitter) return null;
  const {
    sender,
    parameters: { size },
  } = transaction.envelope;
  // The empty sender is for answers by programs (RFC 5321 §4.5.5, RFC 8098 §2.1); who writes stands in the From field all the same.
  if (sender && !mayUse(context, submitter, formatAddress(sender)))
    return refused(notYours(submitter, formatAddress(sender)), 'a sender may use only its own addresses');
  const payer = payerOf(context, submitter, sender);
  transaction.submittedBy = payer;
  if (payer.domainId !== null) transaction.domain = payer.domain;
  const stop = context.stops.find(stoppable(payer), 'sending');
  if (stop) return refused(REPLIES.sendingStopped(stop.text), stop.kind);
  const most = payer.domainId === null ? null : (knownDomain(context, payer.domain)?.mostBytes ?? null);
  if (most !== null) transaction.sizeLimit = { domain: payer.domain, most };
  return most !== null && size !== null && size > most
    ? refused(REPLIES.domainTooBig(payer.domain, most), `largest message of ${payer.domain}`)
    : null;
}
