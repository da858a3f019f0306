import type { StopKind } from '../../core/vocabulary.ts';
import { listOfSender } from '../../store/queue.ts';
import { numbers, requireStop, requireStoppable, senderScope } from '../limits/set-stops.ts';
import type { DeliveryDeps } from './deps.ts';
import { dropIds } from './queue.ts';

/** Drops what a brake or a stop holds; it stays set until it is released. */
export async function discardHeld(context: DeliveryDeps, text: string, kind: StopKind): Promise<{ recipients: number }> {
  const scope = requireStoppable(context, text);
  await requireStop(context, scope, kind);
  const waiting = await listOfSender(context.db, senderScope(scope.kind, scope.name), kind);
  return { recipients: await dropIds(context, numbers(waiting), 'discarded with the brake') };
}
