import { findDomainFacts } from '../../store/domains.ts';
import type { QueueItem } from '../../store/queue.ts';
import type { DeliveryDeps } from './deps.ts';

/** A message as it leaves. `signed` tells by what; null when nothing signs for its domain. */
export interface OutgoingText {
  content: Buffer;
  signed: { domain: string; selector: string } | null;
}

/**
 * Reads a message that is to leave and signs it. That is done here and not when it is accepted, so that accepting never waits for a key, what stays here
 * needs none, and what waited long leaves under the key that signs now.
 */
export async function outgoingText({ db, texts, keys, clock }: DeliveryDeps, item: QueueItem): Promise<OutgoingText> {
  const content = await texts.read(item.file, item.size);
  const domain = item.signsFor;
  if (domain === null) return { content, signed: null };
  const id = findDomainFacts(db, domain)?.id ?? null;
  const signed = await keys.signaturesOf({ name: item.file, content }, { id, name: domain }, clock.now());
  if (!signed) return { content, signed: null };
  return {
    content: Buffer.concat([Buffer.from(signed.fields, 'latin1'), content]),
    signed: { domain, selector: signed.selectors.join(' and ') },
  };
}
