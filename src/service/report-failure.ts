import { parseAddress } from '../core/address/mailbox-address.ts';
import { failureReport } from '../core/message/dsn.ts';
import type { QueueItem } from '../store/journeys.ts';
import { acceptMessage, type Step } from './accept-message.ts';
import type { ServiceContext } from './context.ts';
import { route } from './routing.ts';
import { newJourneyId } from './secrets.ts';

export interface FinalFailure {
  recipient: string;
  /** RFC 3463 */
  status: string;
  text: string;
  host: string | null;
}

/**
 * Sends the failure report to the envelope sender; never for a report itself (RFC 5321 §6.1).
 * Returns the step for the journal of the failed message, null when nobody is to be told.
 */
export async function reportFailure(context: ServiceContext, original: QueueItem, failures: readonly FinalFailure[]): Promise<Step | null> {
  const { clock, host, texts } = context;
  if (original.sender === null) return null;
  const to = parseAddress(original.sender);
  const routing = to.kind === 'ok' ? route(context, to.address) : null;
  const at = clock.now();
  if (routing?.kind !== 'ok') return { at, event: 'not-reported', data: { to: original.sender, reason: 'the sender can’t be reached' } };
  const id = newJourneyId(at);
  const content = failureReport({
    hostName: host.name,
    to: original.sender,
    id,
    originalId: original.journeyId,
    at,
    arrivedAt: original.acceptedAt,
    original: texts.read(original.file),
    failures: failures.map((one) => ({
      recipient: one.recipient,
      // A delay that lasted too long has failed for good.
      status: one.status.replace(/^4/, '5'),
      diagnostic: one.text,
      remoteHost: one.host,
    })),
  });
  await acceptMessage(context, {
    journey: {
      id,
      at,
      kind: 'report',
      sender: null,
      recipients: original.sender,
      subject: `Delivery report for ${original.journeyId}`,
      client: host.name,
      domain: original.senderDomain,
    },
    content,
    destinations: routing.destinations,
    steps: [{ at, event: 'reporting', data: { about: original.journeyId, recipients: failures.map((one) => one.recipient) } }],
    folder: 'Inbox',
    payer: null,
  });
  return { at: clock.now(), event: 'reported', data: { to: original.sender, report: id } };
}
