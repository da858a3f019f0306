import { Gate } from '../../core/gate.ts';
import { heldContent, type MailContent } from '../../core/message/mail-content.ts';
import { TextFacts } from '../../core/smtp/plain-text.ts';
import { findDomainFacts } from '../../store/domains.ts';
import type { QueueItem } from '../../store/queue.ts';
import type { DeliveryDeps } from './deps.ts';

/** A message as it leaves. `signed` tells by what; null when nothing signs for its domain. */
export interface OutgoingText {
  content: MailContent;
  signed: { domain: string; selector: string } | null;
}

/** Larger texts are read piece by piece each time, and never kept. */
const SMALL = 256 * 1024;
/** Large texts that are hashed at the same time: each reads its file once before it goes. */
const large = new Gate(2);

/**
 * Reads a message that is to leave and signs it. That is done here and not when it is accepted, so that accepting never waits for a key, what stays here
 * needs none, and what waited long leaves under the key that signs now.
 */
export async function outgoingText(
  context: Pick<DeliveryDeps, 'db' | 'texts' | 'keys' | 'clock'>,
  item: Pick<QueueItem, 'file' | 'size' | 'signsFor'>,
): Promise<OutgoingText> {
  const { texts } = context;
  if (item.size > SMALL) return large.run(() => largeText(context, item));
  const octets = await texts.read(item.file, item.size);
  const signed = await signaturesOf(context, item, () => octets);
  const content = signed ? Buffer.concat([Buffer.from(signed.fields, 'latin1'), octets]) : octets;
  return { content: heldContent(content), signed: signed?.by ?? null };
}

async function largeText(
  context: Pick<DeliveryDeps, 'db' | 'texts' | 'keys' | 'clock'>,
  item: Pick<QueueItem, 'file' | 'size' | 'signsFor'>,
): Promise<OutgoingText> {
  const pieces = async function* (): AsyncGenerator<Buffer> {
    yield* await context.texts.pieces(item.file, item.size);
  };
  const facts = new TextFacts();
  for await (const piece of pieces()) facts.push(piece);
  const signed = await signaturesOf(context, item, pieces);
  const fields = Buffer.from(signed?.fields ?? '', 'latin1');
  return {
    content: {
      size: fields.length + item.size,
      isAscii: facts.isAscii,
      isPlain: facts.isPlain,
      pieces: async function* () {
        if (fields.length > 0) yield fields;
        yield* pieces();
      },
    },
    signed: signed?.by ?? null,
  };
}

async function signaturesOf(
  { db, keys, clock }: Pick<DeliveryDeps, 'db' | 'keys' | 'clock'>,
  { file, signsFor }: Pick<QueueItem, 'file' | 'signsFor'>,
  read: () => Buffer | AsyncIterable<Buffer>,
): Promise<{ fields: string; by: { domain: string; selector: string } } | null> {
  if (signsFor === null) return null;
  const id = findDomainFacts(db, signsFor)?.id ?? null;
  const signed = await keys.signaturesOf({ name: file, read }, { id, name: signsFor }, clock.now());
  return signed && { fields: signed.fields, by: { domain: signsFor, selector: signed.selectors.join(' and ') } };
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
