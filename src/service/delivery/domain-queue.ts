import { parseDomain } from '../../core/address/domain.ts';
import { sameAddress } from '../../core/records/reverse-name.ts';
import { REPLIES, type Reply } from '../../core/smtp/replies.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { hurry, listForDestination } from '../../store/queue.ts';
import { knownNetworkOf } from '../directory/networks.ts';
import type { DeliveryDeps } from './deps.ts';
import { primaryHosts } from './primary-hosts.ts';

/** Starts the queue of a domain that we stand by for, when its own server asks (RFC 1985). */
export async function startQueue(context: DeliveryDeps, argument: string, clientAddress: string): Promise<Reply> {
  const parsed = parseDomain(argument.replace(/^@/, ''));
  if (parsed.kind === 'invalid') return REPLIES.queueBadName;
  const name = parsed.ascii;
  const domain = findDomainFacts(context.db, name);
  // Who may not ask learns nothing of which domains are here.
  if (!domain || (domain.mailRole !== 'standby' && domain.mailRole !== 'pass-on')) return REPLIES.queueNotYours(name);
  if (!knownNetworkOf(context.db, clientAddress)) {
    const hosts = await primaryHosts(context, name, domain.primaryServer);
    const isPrimary = hosts.kind === 'hosts' && hosts.hosts.some((one) => sameAddress(one.address, clientAddress));
    if (!isPrimary) return REPLIES.queueNotYours(name);
  }
  const { db, clock, signals } = context;
  const waiting = await listForDestination(db, name);
  const started = await db.commitInPieces(waiting, (some) =>
    hurry(
      db,
      some.map((one) => one.id),
      clock.steady(),
    ),
  );
  const data = { client: clientAddress, recipients: started };
  await db.commit(() => addEntry(db, { at: clock.now(), journeyId: null, domain: name, event: 'queue-asked-for', data }));
  if (started === 0) return REPLIES.queueEmpty(name);
  signals.emit('destination', name);
  signals.emit('mail', null);
  return REPLIES.queueStarted(name);
}
