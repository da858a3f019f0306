import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { pipeline } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { Carrier, MailboxRefused } from '../../core/transfer/carrier.ts';
import { MboxReader } from '../../core/transfer/mbox.ts';
import type { Sink } from '../../core/transfer/sink.ts';

/** What whoever reads files into a mailbox has at hand. */
export interface From {
  carrier: Carrier;
  mostOctets: number;
  /** How a path is told. */
  shown: (path: string) => string;
}

export async function intoMailbox(
  sink: Sink,
  address: string,
  { mostOctets, shown }: Omit<From, 'carrier'>,
  work: (from: From) => Promise<void>,
): Promise<void> {
  const opened = await sink.open(address, null);
  if ('refused' in opened) return;
  const carrier = new Carrier(sink, opened.part, 0);
  try {
    await work({ carrier, mostOctets, shown });
    await carrier.flush();
    sink.close(opened.part, null);
  } catch (error) {
    if (!(error instanceof MailboxRefused)) throw error;
    sink.close(opened.part, error.message);
  }
}

export const tooLarge = (size: number | null, most: number): string =>
  `It ${size === null ? 'is' : `has ${size} octets, which is`} larger than the ${most} octets that a message may have here.`;

/** The octets of a file, unpacked where it is compressed. */
export function opened(path: string): AsyncIterable<Buffer> {
  const file = createReadStream(path, { highWaterMark: 256 * 1024 });
  return /\.gz$/i.test(path) ? pipeline(file, createGunzip(), () => {}) : file;
}

export async function* mboxOf(
  { carrier, mostOctets, shown }: From,
  path: string,
  hash = createHash('sha256'),
): AsyncGenerator<{ text: Buffer; at: number | null; place: number }> {
  const reader = new MboxReader(mostOctets);
  let place = 0;
  const taken = function* (items: ReturnType<MboxReader['push']>) {
    for (const one of items) {
      place += 1;
      if (one.kind === 'message') yield { text: one.text, at: one.at, place };
      else carrier.leaveOut(`message ${place} of ${shown(path)}`, tooLarge(one.size, mostOctets));
    }
  };
  for await (const some of opened(path)) {
    hash.update(some);
    yield* taken(reader.push(some));
  }
  yield* taken(reader.end());
}
