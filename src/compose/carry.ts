import type { Sink } from '../core/transfer/sink.ts';
import { readImap } from '../net/imap-source.ts';
import { StoreError } from '../store/open-data.ts';
import { readFiles } from '../store/transfer/read-files.ts';
import { recover } from '../store/transfer/recover.ts';
import type { TransferWork } from '../store/transfer/thread.ts';
import { writeExport } from '../store/transfer/write-export.ts';

/** Carries mail as it was asked for; waits for the disk, so it has a thread of its own. Returns what it says of itself. */
export async function carry({ order, data, mostOctets, about, at, roots }: TransferWork, sink: Sink): Promise<string | null> {
  switch (order.kind) {
    case 'recover':
      await recover(order, data, sink);
      return null;
    case 'files':
      await readFiles(order, { data, mostOctets }, sink);
      return null;
    case 'imap': {
      if (at === null) throw new StoreError(`DNS has no address of ${order.host}.`);
      const wait = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
      await readImap(order, { at, roots, mostOctets, wait, now: () => performance.now() }, sink);
      return null;
    }
    case 'export':
      if (about === null) throw new Error('an export without a word about it');
      return writeExport(order, about, data, sink);
  }
}
