import { formatAddress } from '../../core/address/mailbox-address.ts';
import { withoutForgedResults } from '../../core/judgement/authentication-results.ts';
import { withoutFields } from '../../core/message/fields.ts';
import { headerFault } from '../../core/message/header-shape.ts';
import { type MessageSummary, missingFields, readSubmission, summaryOf } from '../../core/message/submission.ts';
import { deliveredTo, deliveredToField, receivedField } from '../../core/message/trace.ts';
import { REPLIES, type Reply } from '../../core/smtp/replies.ts';
import type { SessionFacts } from '../../core/smtp/server/intents.ts';
import type { JourneyFacts } from '../../store/journeys.ts';
import { acceptMessage } from '../acceptance/accept-message.ts';
import { faultText } from '../base/problem.ts';
import { reportGoodNews } from '../delivery/report-delivery.ts';
import type { Client } from './client.ts';
import type { ReceptionDeps } from './deps.ts';
import { judgeArrival } from './judge.ts';
import { fullReply } from './plan-recipients.ts';
import { mayUse, notYours, type Submitter, signerOf } from './submitter.ts';
import type { Transaction } from './transaction.ts';

type Prepared =
  | {
      kind: 'ready';
      text: Buffer;
      /** Fields of our own: the results of what arrived. */
      ours: string;
      signsFor: string | null;
      folder: 'Inbox' | 'Junk';
      /** Whether a sign-in, a network or SPF vouches for the envelope sender. */
      isVouched: boolean;
      /** Whether the sender's own domain says that it is not from there. */
      isDisowned: boolean;
    }
  | { kind: 'refused'; reply: Reply };

export type Taken = { kind: 'accepted' } | { kind: 'refused'; reply: Reply; summary: MessageSummary };

/** Takes a message over once its text is there: its size, what it lacks or how it is judged, its trace fields, and the acceptance. */
export async function takeMessage(
  context: ReceptionDeps,
  client: Client,
  transaction: Transaction,
  content: Buffer,
  session: SessionFacts,
): Promise<Taken> {
  const { id, sizeLimit, forwardedBy } = transaction;
  const summary = summaryOf(content);
  const refused = (reply: Reply): Taken => ({ kind: 'refused', reply, summary });
  if (sizeLimit && content.length > sizeLimit.most) return refused(REPLIES.domainTooBig(sizeLimit.domain, sizeLimit.most));
  if (forwardedBy !== null && deliveredTo(content).includes(forwardedBy.toLowerCase())) return refused(REPLIES.beenHere(forwardedBy));
  const fault = headerFault(content);
  if (fault !== null) return refused(REPLIES.headerUnreadable(fault));
  const full = transaction.fit(content.length);
  if (full) return refused(full);
  const now = context.clock.now();
  const prepared = client.submitter
    ? prepare(context, client.submitter, transaction, content)
    : await judge(context, client, transaction, content, session.helo);
  if (prepared.kind === 'refused') return refused(prepared.reply);
  // The client went away while keys or name servers were asked: its room is free again, and nobody waits for an answer.
  if (!transaction.envelope.isOpen) return refused(REPLIES.storeFailed);
  const trace =
    (forwardedBy === null ? '' : deliveredToField(forwardedBy)) +
    receivedField({
      helo: session.helo,
      clientAddress: client.address,
      hostName: context.host.name,
      protocol: session.protocol,
      id,
      at: now,
    });
  // From here the reservation belongs to the acceptance, even when the connection closes meanwhile.
  const reservation = transaction.handOver();
  const message = {
    journey: journeyFacts(client, transaction, summary, prepared),
    content: Buffer.concat([Buffer.from(trace, 'utf8'), Buffer.from(prepared.ours, 'latin1'), prepared.text]),
    // Who forges a sender must not have success reported to it, by us or by whoever comes next.
    recipients: [...transaction.planned.values()].map((one) => (prepared.isVouched ? one : { ...one, notify: withoutSuccess(one.notify) })),
    steps: transaction.steps,
    folder: prepared.folder,
    payer: transaction.payer && { reservation, payer: transaction.payer, bytes: content.length },
  };
  try {
    const taken = await acceptMessage(context, message);
    if (taken.kind === 'full') {
      if (reservation) context.limits.release(reservation);
      return refused(fullReply(context, taken));
    }
  } catch (error) {
    if (reservation) context.limits.release(reservation);
    throw error;
  } finally {
    transaction.releasePlaces();
  }
  reportGoodNews(context, message, prepared.isVouched ? transaction.expanded : []).catch((error) =>
    context.log.error({ journey: id, fault: faultText(error) }, 'good news could not be reported'),
  );
  return { kind: 'accepted' };
}

const HIDDEN = ['bcc', 'resent-bcc'];

/** NOTIFY without SUCCESS; what is left of it alone is the silence about all but that (RFC 3461 §4.1). */
function withoutSuccess(notify: string | null): string | null {
  if (notify === null) return null;
  const left = notify.split(',').filter((one) => one !== 'SUCCESS');
  return left.length === 0 ? 'NEVER' : left.join(',');
}

/** A submission: whose name it bears, what it lacks, and who signs it. */
function prepare(context: ReceptionDeps, submitter: Submitter, transaction: Transaction, content: Buffer): Prepared {
  const reading = readSubmission(content);
  if (reading.kind === 'refused') return { kind: 'refused', reply: REPLIES.unreadableSubmission(reading.reason) };
  const foreign = reading.from.find((address) => !mayUse(context, submitter, address));
  if (foreign !== undefined) return { kind: 'refused', reply: notYours(submitter, foreign) };
  const now = context.clock.now();
  const domain = signerOf(context, submitter, reading.from[0] ?? '');
  const added = missingFields(reading.missing, { at: now, unique: transaction.id, domain: domain ?? context.host.name });
  // RFC 5322 §3.6.3: who gets it by Bcc is nobody else's business.
  const seen = withoutForgedResults(withoutFields(content, HIDDEN), context.host.name).message;
  const text = added === '' ? seen : Buffer.concat([Buffer.from(added, 'latin1'), seen]);
  if (added !== '' || seen !== content)
    transaction.step({ event: 'amended', data: { added: reading.missing, ...(seen === content ? {} : { removed: ['Bcc'] }) } });
  return { kind: 'ready', text, ours: '', signsFor: domain, folder: 'Inbox', isVouched: true, isDisowned: false };
}

/** Mail from outside: what SPF, DKIM and DMARC say of it. */
async function judge(context: ReceptionDeps, client: Client, transaction: Transaction, content: Buffer, helo: string): Promise<Prepared> {
  const envelope = transaction.envelope.sender;
  const sender = envelope ? formatAddress(envelope) : '';
  const judged = await judgeArrival(context, { clientAddress: client.address, helo, sender, content }, transaction.judge ?? 'note');
  transaction.step({ event: 'judged', data: judged.data });
  if (judged.refusal) return { kind: 'refused', reply: judged.refusal };
  const { content: text, field: ours, folder, isVouched, isDisowned } = judged;
  return { kind: 'ready', text, ours, signsFor: null, folder, isVouched, isDisowned };
}

/** What is written down of a message, accepted or not. */
export function journeyFacts(
  client: Client,
  transaction: Transaction,
  { subject, messageId }: MessageSummary,
  { signsFor, isVouched, isDisowned }: Pick<JourneyFacts, 'signsFor' | 'isVouched' | 'isDisowned'>,
): JourneyFacts {
  const { parameters, sender } = transaction.envelope;
  return {
    id: transaction.id,
    at: transaction.at,
    kind: client.submitter ? 'submitted' : 'received',
    sender: sender && formatAddress(sender),
    recipients: transaction.recipients.join(', '),
    subject,
    messageId,
    client: client.address,
    domain: transaction.domain,
    mailbox: client.submitter?.kind === 'mailbox' ? client.submitter.mailbox.address : null,
    envelopeId: parameters.envelopeId,
    returnContent: parameters.returnContent,
    smtputf8: parameters.smtputf8,
    signsFor,
    isVouched,
    isDisowned,
    domainId: transaction.submittedBy?.domainId ?? null,
    mailboxId: transaction.submittedBy?.mailboxId ?? null,
  };
}
