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
export async function outgoingText(
  { db, texts, keys, clock }: Pick<DeliveryDeps, 'db' | 'texts' | 'keys' | 'clock'>,
  item: Pick<QueueItem, 'file' | 'size' | 'signsFor'>,
): Promise<OutgoingText> {
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

/** So many messages of a domain are signed ahead of their turn, when they are not larger than that. */
const SIGNED_AHEAD = 64;
const MOST_SIGNED_AHEAD = 64 * 1024;

/** The texts of what leaves, some of them made ahead. */
export class OutgoingTexts {
  private readonly ahead = new WeakMap<QueueItem, Promise<OutgoingText>>();

  constructor(private readonly context: DeliveryDeps) {}

  of(item: QueueItem): Promise<OutgoingText> {
    return this.ahead.get(item) ?? outgoingText(this.context, item);
  }

  /** Those that go next are signed while others are under way, so that no connection waits for a key. */
  prepare(waiting: readonly QueueItem[]): void {
    for (const item of waiting.slice(0, SIGNED_AHEAD)) {
      if (this.ahead.has(item) || item.size > MOST_SIGNED_AHEAD) continue;
      const text = outgoingText(this.context, item);
      // What fails is told when its turn comes.
      text.catch(() => {});
      this.ahead.set(item, text);
    }
  }
}
