import { hold, type QueueItem } from '../../store/queue.ts';
import { stopOfSender } from '../limits/set-stops.ts';
import type { DeliveryDeps } from './deps.ts';

/** Holds what waits of stopped senders, and was not held yet. */
export async function holdStopped(context: DeliveryDeps, items: readonly QueueItem[]): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    for (const item of items) {
      const stop = stopOfSender(context, item);
      if (stop) hold(db, [item.id], stop.kind, clock.steady());
    }
  });
}
