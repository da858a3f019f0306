import type { Destination } from '../core/routing/recipients.ts';
import { addEntry, addJourney, addRecipient, type Journey, type QueueItem } from '../store/journeys.ts';
import { storeMessage } from '../store/messages.ts';
import type { ServiceContext } from './context.ts';
import type { Reservation } from './limits.ts';

/** A step of a journey that was taken before the message was accepted or refused. */
export interface Step {
  at: number;
  event: string;
  data: object;
}

export interface AcceptedMessage {
  journey: Omit<Journey, 'outcome' | 'file' | 'size'>;
  /** With every field that is ours in front. */
  content: Buffer;
  destinations: readonly Destination[];
  steps: readonly Step[];
  /** Where local recipients get it. */
  folder: 'Inbox' | 'Junk';
  /** What the outside recipients are charged to; null for our own reports. */
  payer: { reservation: Reservation; mailboxId: number | null } | null;
}

/**
 * Makes a message ours: in one transaction its text, the journey, the Inbox entries, the queue and the charge.
 * Only when this resolves may 250 be said.
 */
export async function acceptMessage(context: ServiceContext, message: AcceptedMessage): Promise<void> {
  const { db, texts, clock, limits, signals } = context;
  const text = await texts.hold(message.content);
  const file = text.name;
  let accepted = false;
  const { id, at } = message.journey;
  const queued: QueueItem[] = [];
  try {
    const chargedAt = await db.commit(() => {
      queued.length = 0;
      text.keep();
      const now = clock.now();
      addJourney(db, { ...message.journey, outcome: 'accepted', size: message.content.length, file });
      const entry = (event: string, data: object, when = now) =>
        addEntry(db, { at: when, journeyId: id, domain: message.journey.domain, event, data });
      for (const step of message.steps) entry(step.event, step.data, step.at);
      entry('accepted', { size: message.content.length, file, recipients: message.destinations.length });
      for (const one of message.destinations) {
        if (one.kind === 'outside') {
          const recipient = { address: one.address, domain: one.domain, state: 'queued' as const, nextAttemptAt: now };
          const recipientId = addRecipient(db, id, { ...recipient, at });
          const { sender, kind, domain: senderDomain } = message.journey;
          queued.push({
            ...recipient,
            id: recipientId,
            attempts: 0,
            reply: null,
            changedAt: at,
            journeyId: id,
            sender,
            kind,
            file,
            acceptedAt: at,
            senderDomain,
          });
          continue;
        }
        const kept = storeMessage(db, {
          mailboxId: one.mailboxId,
          file,
          size: message.content.length + returnPath(message.journey.sender).length,
          envelopeSender: message.journey.sender,
          folder: message.folder,
          journeyId: id,
          at: now,
        });
        // A mailbox removed between RCPT and here: the sender must hear of it, so the message is not accepted as a whole.
        if (!kept) throw new Error(`the mailbox ${one.address} was removed meanwhile`);
        addRecipient(db, id, {
          address: one.address,
          domain: one.address.slice(one.address.lastIndexOf('@') + 1),
          state: 'delivered',
          nextAttemptAt: null,
          at: now,
        });
        entry('delivered', { recipient: one.address, folder: message.folder });
      }
      if (!message.payer || message.payer.reservation.sends === 0) return null;
      const { reservation, mailboxId } = message.payer;
      entry('charged', { sends: reservation.sends });
      return limits.charge({ domainId: reservation.domainId, mailboxId, journeyId: id, sends: reservation.sends });
    });
    accepted = true;
    if (message.payer && chargedAt !== null) limits.settle(message.payer.reservation, chargedAt);
  } finally {
    text.release(accepted);
  }
  context.metrics.messages.inc({ kind: message.journey.kind, outcome: 'accepted' });
  for (const one of message.destinations) if (one.kind === 'mailbox') context.metrics.recipients.inc({ state: 'delivered' });
  if (queued.length > 0) signals.emit('mail', queued);
}

/** The field that final delivery puts in front (RFC 5321 §4.4); it differs by recipient, so it is not in the shared file. */
export const returnPath = (sender: string | null): string => `Return-Path: <${sender ?? ''}>\r\n`;

/** Journals a refusal, so that “it was never sent” and “we refused it” can be told apart. */
export async function recordRefusal(
  context: ServiceContext,
  journey: Omit<Journey, 'outcome' | 'file'>,
  steps: readonly Step[],
  reason: { code: number; status: string | null; text: string; at: number },
): Promise<void> {
  const { db, metrics } = context;
  metrics.messages.inc({ kind: journey.kind, outcome: 'refused' });
  await db.commit(() => {
    addJourney(db, { ...journey, outcome: 'refused', file: null });
    for (const step of steps)
      addEntry(db, { at: step.at, journeyId: journey.id, domain: journey.domain, event: step.event, data: step.data });
    addEntry(db, {
      at: reason.at,
      journeyId: journey.id,
      domain: journey.domain,
      event: 'refused',
      data: { reply: `${reason.code} ${reason.status ?? ''} ${reason.text}`.replace('  ', ' ') },
    });
  });
}
