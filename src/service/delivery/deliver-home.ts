import { parseAddress } from '../../core/address/mailbox-address.ts';
import { returnPath } from '../../core/message/trace.ts';
import type { Destination } from '../../core/routing/recipients.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { stillDue } from '../../store/due-recipients.ts';
import { addEntry, folderOfJourney } from '../../store/journeys.ts';
import { noteNearlyFull } from '../../store/mailbox-use.ts';
import { deliverMessage } from '../../store/messages.ts';
import { changeRecipient, type QueueItem } from '../../store/queue.ts';
import { nearlyFullStep } from '../acceptance/nearly-full.ts';
import { knownDomain, route } from '../acceptance/routing.ts';
import type { DeliveryDeps } from './deps.ts';
import { type RecipientResult, recipientResult } from './write-outcome.ts';

/** Whether a queued recipient's mailboxes are here: it waits for room, or its domain has come here meanwhile. */
export const isAtHome = (context: DeliveryDeps, { domain, homeDomainId }: QueueItem): boolean =>
  homeDomainId !== null || knownDomain(context, domain)?.mailRole === 'home';

/** Why a recipient here can't take mail: the SMTP status and words, and whether trying again may help. */
interface Obstacle {
  kind: 'later' | 'never';
  status: string;
  text: string;
}

/**
 * Delivers what the queue has for mailboxes here, each recipient in a commit of its own. Returns the results of those that could not be
 * delivered.
 */
export async function deliverHome(context: DeliveryDeps, group: readonly QueueItem[]): Promise<RecipientResult[]> {
  const left: RecipientResult[] = [];
  for (const item of group) {
    const obstacle = await deliverOne(context, item);
    if (obstacle) left.push(recipientResult(item, obstacle.kind, obstacle.status, obstacle.text));
  }
  return left;
}

async function deliverOne(context: DeliveryDeps, item: QueueItem): Promise<Obstacle | null> {
  const { db, clock } = context;
  const found = findMailboxes(context, item);
  if ('status' in found) return found;
  const obstacle = await db
    .commit((): Obstacle | null => {
      // Somebody may have dropped it while this waited for its transaction.
      if (!stillDue(db, item.id)) return null;
      const now = clock.now();
      const folder = folderOfJourney(db, item.journeyId);
      const prefix = returnPath(item.onwardSender ?? item.sender);
      const entry = { journeyId: item.journeyId, domain: item.senderDomain };
      for (const { mailboxId, address } of found.mailboxes) {
        const kept = deliverMessage(db, mailboxId, folder, {
          flags: 0,
          keywords: '',
          internalDate: now,
          savedAt: now,
          size: item.size + prefix.length,
          prefix,
          file: item.file,
          outlineId: null,
          journeyId: item.journeyId,
        });
        // Undone with the whole commit: those behind one address get it together.
        if (kept !== 'delivered') throw new NotDelivered(kept === 'gone' ? gone(address) : full(context, address));
        addEntry(db, { ...entry, at: now, event: 'delivered', data: { recipient: address, folder } });
        for (const nearly of noteNearlyFull(db, mailboxId, now)) addEntry(db, { ...entry, ...nearlyFullStep(nearly, now) });
      }
      changeRecipient(db, item.id, {
        state: 'delivered',
        attempts: item.attempts + 1,
        nextAttemptAt: null,
        reply: null,
        at: now,
        wantsOutlet: false,
      });
      return null;
    })
    .catch((error: unknown) => {
      if (error instanceof NotDelivered) return error.obstacle;
      throw error;
    });
  if (obstacle) return obstacle;
  context.metrics.recipients.inc({ state: 'delivered' });
  context.signals.emit('stored', { file: item.file, size: item.size });
  context.signals.emit('attempted', item.journeyId);
  return null;
}

class NotDelivered extends Error {
  constructor(readonly obstacle: Obstacle) {
    super(obstacle.text);
  }
}

const gone = (address: string): Obstacle => ({ kind: 'never', status: '5.1.1', text: `There is no mailbox ${address}` });

/** A full mailbox is tried again, unless its domain wants such mail refused. */
function full(context: DeliveryDeps, address: string): Obstacle {
  const domain = findDomainFacts(context.db, address.slice(address.lastIndexOf('@') + 1));
  return domain?.fullMailbox === 'refuse'
    ? { kind: 'never', status: '5.2.2', text: `The mailbox ${address} has no room for this message` }
    : { kind: 'later', status: '4.2.2', text: `The mailbox ${address} has no room for this message yet` };
}

/** The mailboxes that an address leads to now, or why there are none. Copies that they forward were made when the message was accepted. */
function findMailboxes(context: DeliveryDeps, item: QueueItem): { mailboxes: Extract<Destination, { kind: 'mailbox' }>[] } | Obstacle {
  const { homeDomainId, homeMailboxId } = item;
  if (homeDomainId !== null && findDomainFacts(context.db, item.domain)?.id !== homeDomainId)
    return { kind: 'never', status: '5.1.2', text: `The domain ${item.domain} is no longer here` };
  const parsed = parseAddress(item.address, true);
  const routing = parsed.kind === 'ok' ? route(context, parsed.address, item.size, { withCopies: false }) : null;
  switch (routing?.kind) {
    case 'ok': {
      const mailboxes = routing.destinations.filter((one) => one.kind === 'mailbox');
      if (homeMailboxId !== null && !mailboxes.some((one) => one.mailboxId === homeMailboxId)) return gone(item.address);
      const unready = routing.destinations.find((one) => one.kind === 'unready');
      if (unready) return { kind: 'later', status: '4.2.1', text: `${unready.address} cannot receive mail now` };
      if (mailboxes.length === routing.destinations.length) return { mailboxes };
      return { kind: 'never', status: '5.4.4', text: `${item.address} has changed and now forwards elsewhere; send the message again` };
    }
    case 'full':
      return full(context, routing.address);
    case 'moved':
      return { kind: 'never', status: '5.1.6', text: `${routing.address} has moved` };
    case 'loop':
    case 'too-many':
      return { kind: 'never', status: '5.4.6', text: `The alias ${routing.address} can’t be followed to its end` };
    case 'trial-over':
    case 'return-expired':
    case 'unknown-mailbox':
    case undefined:
      return gone(item.address);
  }
}
