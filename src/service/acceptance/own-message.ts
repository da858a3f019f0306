import type { Destination } from '../../core/routing/recipients.ts';
import type { JourneyStep } from '../../store/journeys.ts';
import { type Acceptance, acceptMessage } from './accept-message.ts';
import type { AcceptanceDeps } from './deps.ts';
import { plainRecipient } from './planned-recipient.ts';

/** What the server writes itself: a delivery report, or a notice to a customer. */
export interface OwnMessage {
  /** Of the journey; the Message-ID is made of it. */
  id: string;
  at: number;
  to: string;
  /** The domain here that it is about, if any. */
  domain: string | null;
  subject: string;
  content: Buffer;
  destinations: readonly Destination[];
  step: JourneyStep;
}

/** Accepts a message of the server's own, with the empty sender (RFC 5321 §4.5.5): nobody pays for it, and nobody is told what becomes of it. */
export const acceptOwnMessage = (
  context: AcceptanceDeps,
  { id, at, to, domain, subject, content, destinations, step }: OwnMessage,
): Promise<Acceptance> =>
  acceptMessage(context, {
    journey: {
      id,
      at,
      kind: 'report',
      sender: null,
      recipients: to,
      subject,
      messageId: `${id}@${context.host.name}`,
      client: context.host.name,
      domain,
      mailbox: null,
      envelopeId: null,
      returnContent: null,
      smtputf8: false,
      signsFor: null,
      isVouched: false,
      isDisowned: false,
    },
    content,
    recipients: destinations.map(plainRecipient),
    steps: [step],
    folder: 'Inbox',
    payer: null,
  });
