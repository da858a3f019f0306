import { domainSide } from '../../core/address/sides.ts';
import { amountsOf } from '../../core/limits/amounts.ts';
import { returnPath } from '../../core/message/trace.ts';
import type { Destination, Full } from '../../core/routing/recipients.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { addJourney, addRecipient, addSteps, type JourneyFacts, type JourneyStep } from '../../store/journeys.ts';
import type { Payer } from '../../store/ledger.ts';
import { charge } from '../../store/ledger.ts';
import { type NearlyFull, noteNearlyFull } from '../../store/mailbox-use.ts';
import { mailboxExists } from '../../store/mailboxes.ts';
import { deliverMessage } from '../../store/messages.ts';
import type { QueueItem } from '../../store/queue.ts';
import { takeTrial } from '../../store/trials.ts';
import type { Reservation } from '../limits/reservation.ts';
import type { AcceptanceDeps } from './deps.ts';
import { nearlyFullStep } from './nearly-full.ts';
import type { PlannedRecipient } from './planned-recipient.ts';

export interface AcceptedMessage {
  journey: JourneyFacts;
  /** With every field that is ours in front. */
  content: Buffer;
  recipients: readonly PlannedRecipient[];
  steps: readonly JourneyStep[];
  /** Where local recipients get it. */
  folder: 'Inbox' | 'Junk';
  /** What the outside recipients are charged to; null for our own reports. */
  payer: { reservation: Reservation | null; payer: Payer; bytes: number } | null;
}

/** `full`: nobody whom the message is for has room for it; nothing was accepted. */
export type Acceptance = { kind: 'accepted' } | { kind: 'full'; address: string; what: Full };

/** Undoes an acceptance for which no recipient has room. */
class NoRoom extends Error {
  constructor(
    readonly address: string,
    readonly what: Full,
  ) {
    super(`${address} is full`);
  }
}

/**
 * Makes a message ours: in one transaction its text, the journey, the Inbox entries, the queue and the charge.
 * Only when this resolves with `accepted` may 250 be said. A mailbox without room for it gets it from the queue, as long as somebody else
 * gets it now.
 */
export async function acceptMessage(context: AcceptanceDeps, message: AcceptedMessage): Promise<Acceptance> {
  const { db, texts, clock, limits, signals } = context;
  const text = await texts.hold(message.content);
  const file = text.name;
  let accepted = false;
  const { journey, payer } = message;
  const { id } = journey;
  const queued: QueueItem[] = [];
  const nearlyFull: NearlyFull[] = [];
  let delivered = 0;
  try {
    const write = () => {
      queued.length = 0;
      nearlyFull.length = 0;
      text.keep();
      const now = clock.now();
      const steps = [...message.steps];
      addJourney(db, journey, { outcome: 'accepted', size: message.content.length, file });
      steps.push({ at: now, event: 'accepted', data: { size: message.content.length, file, recipients: message.recipients.length } });
      delivered = 0;
      let unfit: NoRoom | null = null;
      for (const one of message.recipients) {
        if (one.destination.kind === 'mailbox') {
          const full = deliverHere(context, message, one, file, now, steps, nearlyFull);
          if (full === null) delivered += 1;
          else {
            unfit ??= new NoRoom(one.destination.address, full);
            queued.push(...enqueue(context, message, one, file, now, steps));
          }
        } else if (one.destination.kind === 'trial') keepTrial(context, message, one, one.destination, file, now, steps);
        else queued.push(...enqueue(context, message, one, file, now, steps));
      }
      // What we write ourselves waits for room: nobody is there to be told.
      if (unfit && journey.kind !== 'report' && message.recipients.every((one) => one.destination.kind === 'mailbox') && delivered === 0)
        throw unfit;
      const sends = message.recipients.filter((one) => one.isCharged).length;
      if (!payer || sends === 0) {
        addSteps(db, id, journey.domain, steps);
        return null;
      }
      // Nobody sends as a mailbox that is gone, however far the conversation had come.
      if (payer.payer.mailboxId !== null && !mailboxExists(db, payer.payer.mailboxId))
        throw new Error(`the mailbox ${payer.payer.mailbox} was removed meanwhile`);
      const amounts = amountsOf({ sends, bytes: payer.bytes });
      const at = limits.now();
      const seq = charge(db, payer.payer, amounts, { at, journeyId: id });
      steps.push({
        at: now,
        event: 'charged',
        data: { to: payer.payer.mailbox ?? payer.payer.domain, left: limits.left(payer.payer, amounts), ...amounts },
      });
      addSteps(db, id, journey.domain, steps);
      return { at, seq, amounts };
    };
    const charged = await db.commit(write, { isRepeatable: true });
    accepted = true;
    if (payer?.reservation) {
      if (charged) limits.chargeReserved(payer.reservation, charged);
      else limits.release(payer.reservation);
    }
    if (payer && charged) signals.emit('charged', payer.payer, charged.amounts.sends);
  } catch (error) {
    if (error instanceof NoRoom) return { kind: 'full', address: error.address, what: error.what };
    throw error;
  } finally {
    text.release(accepted);
  }
  context.metrics.messages.inc({ kind: journey.kind, outcome: 'accepted' });
  if (delivered > 0) {
    context.metrics.recipients.inc({ state: 'delivered' }, delivered);
    signals.emit('stored', { file, size: message.content.length });
  }
  for (const { destination } of message.recipients) if (destination.kind === 'trial') signals.emit('trial', destination.trialId);
  for (const one of nearlyFull) signals.emit('nearly-full', one);
  if (queued.length > 0) signals.emit('mail', queued);
  return { kind: 'accepted' };
}

/** Delivers to a mailbox here; says what has no room when that can't be. */
function deliverHere(
  { db }: AcceptanceDeps,
  message: AcceptedMessage,
  one: PlannedRecipient,
  file: string,
  now: number,
  steps: JourneyStep[],
  nearlyFull: NearlyFull[],
): Full | null {
  const { destination } = one;
  if (destination.kind !== 'mailbox') return null;
  const { sender, id } = message.journey;
  const prefix = returnPath(sender);
  const kept = deliverMessage(db, destination.mailboxId, message.folder, {
    flags: 0,
    keywords: '',
    internalDate: now,
    savedAt: now,
    size: message.content.length + prefix.length,
    prefix,
    file,
    outlineId: null,
    journeyId: id,
  });
  // A mailbox removed between RCPT and here: the sender must hear of it, so the message is not accepted as a whole.
  if (kept === 'gone') throw new Error(`the mailbox ${destination.address} was removed meanwhile`);
  if (kept !== 'delivered') return kept;
  const nowNearlyFull = noteNearlyFull(db, destination.mailboxId, now);
  nearlyFull.push(...nowNearlyFull);
  addRecipient(db, id, one, {
    address: destination.address,
    domain: domainSide(destination.address),
    state: 'delivered',
    nextAttemptAt: null,
    at: now,
    heldAt: null,
    payer: null,
    senderDomain: message.journey.domain,
  });
  steps.push({ at: now, event: 'delivered', data: { recipient: destination.address, folder: message.folder } });
  for (const nearly of nowNearlyFull) steps.push(nearlyFullStep(nearly, now));
  return null;
}

/** Keeps a message that is to be scored, with what is known of it beside its text. */
function keepTrial(
  { db }: AcceptanceDeps,
  { journey, content, steps: before }: AcceptedMessage,
  one: PlannedRecipient,
  { trialId, address }: Extract<Destination, { kind: 'trial' }>,
  file: string,
  now: number,
  steps: JourneyStep[],
): void {
  const connected = before.find((step) => step.event === 'connected')?.data;
  const isFirst = takeTrial(db, trialId, {
    file,
    size: content.length,
    journeyId: journey.id,
    sender: journey.sender ?? '',
    subject: journey.subject,
    at: now,
    arrival: {
      isLeaving: journey.kind === 'submitted',
      client: journey.client ?? '',
      greeting: connected?.helo ?? '',
      tls: connected?.tls ?? false,
      signsFor: journey.signsFor,
    },
  });
  // Another message came first: the sender must hear of it, so this one is not accepted as a whole.
  if (!isFirst) throw new Error(`${address} has its message`);
  const [domain, senderDomain] = [domainSide(address), journey.domain];
  addRecipient(db, journey.id, one, {
    address,
    domain,
    state: 'delivered',
    nextAttemptAt: null,
    at: now,
    heldAt: null,
    payer: null,
    senderDomain,
  });
  steps.push({ at: now, event: 'to-be-scored', data: { recipient: address, trial: trialId } });
}

/** Puts a recipient into the queue that is outside, or has no room yet; returns it when it may be tried immediately. */
function enqueue(
  { db, clock }: AcceptanceDeps,
  message: AcceptedMessage,
  one: PlannedRecipient,
  file: string,
  now: number,
  steps: JourneyStep[],
): QueueItem[] {
  const due = clock.steady();
  const { destination } = one;
  if (destination.kind === 'trial') return [];
  const { journey } = message;
  const { address } = destination;
  const domain = destination.kind === 'mailbox' ? domainSide(address) : destination.domain;
  const payer = one.held === null || !message.payer ? null : message.payer.payer;
  const isHome = destination.kind === 'mailbox' || destination.kind === 'unready';
  const home = isHome ? { domainId: findDomainFacts(db, domain)?.id ?? null, mailboxId: destination.mailboxId } : undefined;
  const recipientId = addRecipient(db, journey.id, one, {
    address,
    domain,
    state: 'queued',
    nextAttemptAt: due,
    at: now,
    heldAt: one.held === null ? null : due,
    payer,
    senderDomain: journey.domain,
    home,
  });
  if (one.held !== null) {
    steps.push({ at: now, event: 'held', data: { recipient: address, why: one.held } });
    return [];
  }
  const { held, fullScope, isCharged, notify, original, onwardSender } = one;
  return [
    {
      id: recipientId,
      address,
      domain,
      state: 'queued',
      attempts: 0,
      nextAttemptAt: due,
      reply: null,
      changedAt: now,
      held,
      heldAt: null,
      fullScope,
      isCharged,
      payer,
      notify,
      original,
      isDelayTold: false,
      onwardSender,
      journeyId: journey.id,
      sender: journey.sender,
      kind: journey.kind,
      file,
      size: message.content.length,
      acceptedAt: journey.at,
      senderDomain: journey.domain,
      senderDomainId: journey.domain === null ? null : (findDomainFacts(db, journey.domain)?.id ?? null),
      mailbox: journey.mailbox,
      mailboxId: journey.mailboxId ?? null,
      messageId: journey.messageId,
      envelopeId: journey.envelopeId,
      returnContent: journey.returnContent,
      smtputf8: journey.smtputf8,
      signsFor: journey.signsFor,
      isVouched: journey.isVouched,
      isDisowned: journey.isDisowned,
      homeDomainId: home?.domainId ?? null,
      homeMailboxId: home?.mailboxId ?? null,
    },
  ];
}
