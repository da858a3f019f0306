import { parseAddress } from '../../core/address/mailbox-address.ts';
import { domainSide } from '../../core/address/sides.ts';
import { deliveryReport, fromXtext } from '../../core/message/dsn.ts';
import { GIVE_UP_AFTER } from '../../core/retry/schedule.ts';
import type { Destination, Routing } from '../../core/routing/recipients.ts';
import type { ReportAction } from '../../core/vocabulary.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { findJourney, type Journey, type JourneyStep } from '../../store/journeys.ts';
import { mailboxExists } from '../../store/mailboxes.ts';
import { TextLost } from '../../store/message-files.ts';
import type { AcceptedMessage } from '../acceptance/accept-message.ts';
import { acceptOwnMessage } from '../acceptance/own-message.ts';
import { route } from '../acceptance/routing.ts';
import { newJourneyId } from '../base/secrets.ts';
import type { DeliveryDeps } from './deps.ts';

/** What is to be said of one recipient. */
export interface Reported {
  recipient: string;
  original: string | null;
  /** RFC 3463 */
  status: string;
  text: string;
  host: string | null;
}

/** The message that a report is about. */
export interface ReportSubject {
  journeyId: string;
  sender: string | null;
  senderDomain: string | null;
  acceptedAt: number;
  envelopeId: string | null;
  returnContent: string | null;
  isVouched: boolean;
  isDisowned: boolean;
  content: () => Promise<Buffer>;
}

/** Whether the sender wants to hear of an event (RFC 3461 §4.1); without NOTIFY of failures and delays (§5.2.1). */
export const wantsWord = (notify: string | null, event: 'SUCCESS' | 'FAILURE' | 'DELAY'): boolean =>
  notify === null ? event !== 'SUCCESS' : notify.split(',').includes(event);

/**
 * Sends a delivery report to the envelope sender; never about a report itself (RFC 5321 §6.1).
 * Returns the step for the journal of the message that it is about, null when nobody is to be told.
 */
export async function reportDelivery(
  context: DeliveryDeps,
  action: ReportAction,
  about: ReportSubject,
  recipients: readonly Reported[],
): Promise<JourneyStep | null> {
  const { clock, host } = context;
  if (about.sender === null || recipients.length === 0) return null;
  const notReported = (reason: string): JourneyStep => ({
    at: clock.now(),
    event: 'not-reported',
    data: { to: about.sender ?? '', action, reason },
  });
  if (about.isDisowned) return notReported('the sender’s domain disowns the message');
  const journey = findJourney(context.db, about.journeyId);
  if (journey && !isStillThere(context, journey)) return notReported('the sender no longer exists');
  const to = parseAddress(about.sender, true);
  const destinations = to.kind === 'ok' ? reportTo(route(context, to.address)) : null;
  const at = clock.now();
  if (!destinations) return notReported('the sender can’t be reached');
  const leaves = destinations.some((one) => one.kind !== 'mailbox' && one.kind !== 'unready');
  // Who can't be told from a forged name hears little, and nothing that a stranger wrote (RFC 3834 §2).
  const client = about.isVouched ? null : (journey?.client ?? '');
  if (leaves && !context.reports.take(about.sender, client, clock.steady()))
    return notReported('too many reports were sent within the hour');
  const id = newJourneyId(at);
  const original =
    client !== null
      ? Buffer.alloc(0)
      : await about.content().catch((error: unknown) => {
          // What the report is about is told even when its text can't be read any more.
          if (!(error instanceof TextLost)) throw error;
          return Buffer.alloc(0);
        });
  const content = deliveryReport({
    action,
    hostName: host.name,
    to: about.sender,
    id,
    originalId: about.journeyId,
    at,
    arrivedAt: about.acceptedAt,
    until: action === 'delayed' ? about.acceptedAt + GIVE_UP_AFTER : null,
    envelopeId: about.envelopeId === null ? null : fromXtext(about.envelopeId),
    original,
    // RFC 3461 §6.2: without RET the header is enough.
    whole: about.returnContent === 'FULL',
    recipients: recipients.map(({ recipient, original, status, text, host: remoteHost }) => ({
      recipient,
      original: original === null ? null : fromXtext(original),
      status,
      diagnostic: text,
      remoteHost,
    })),
  });
  await acceptOwnMessage(context, {
    id,
    at,
    to: about.sender,
    domain: about.senderDomain,
    subject: `Delivery report for ${about.journeyId}`,
    content,
    destinations,
    step: { at, event: 'reporting', data: { about: about.journeyId, action, recipients: recipients.map((one) => one.recipient) } },
  });
  return { at: clock.now(), event: 'reported', data: { to: about.sender, report: id, action } };
}

/** Whether who sent a message here is still who has that name. */
const isStillThere = ({ db }: DeliveryDeps, { domain, domainId, mailboxId }: Journey): boolean =>
  (domainId == null || domain === null || findDomainFacts(db, domain)?.id === domainId) &&
  (mailboxId == null || mailboxExists(db, mailboxId));

/** Where a report goes; a full mailbox gets it when there is room. */
function reportTo(routing: Routing): readonly Destination[] | null {
  if (routing.kind === 'ok') return routing.destinations;
  if (routing.kind !== 'full') return null;
  const { address, mailboxId } = routing;
  return [{ kind: 'unready', address, domain: domainSide(address), mailboxId }];
}

/** Tells of local deliveries and of lists reached, where the sender asked for it. */
export async function reportGoodNews(
  context: DeliveryDeps,
  message: AcceptedMessage,
  expanded: readonly { recipient: string; original: string | null }[],
): Promise<void> {
  const { journey } = message;
  const about: ReportSubject = {
    journeyId: journey.id,
    sender: journey.sender,
    senderDomain: journey.domain,
    acceptedAt: journey.at,
    isVouched: journey.isVouched,
    isDisowned: journey.isDisowned,
    envelopeId: journey.envelopeId,
    returnContent: journey.returnContent,
    content: async () => message.content,
  };
  const delivered = message.recipients.filter((one) => one.destination.kind === 'mailbox' && wantsWord(one.notify, 'SUCCESS'));
  const said = (recipient: string, original: string | null): Reported => ({ recipient, original, status: '2.1.5', text: '', host: null });
  await reportDelivery(
    context,
    'delivered',
    about,
    delivered.map((one) => said(one.destination.address, one.original)),
  );
  await reportDelivery(
    context,
    'expanded',
    about,
    expanded.map((one) => said(one.recipient, one.original)),
  );
}
