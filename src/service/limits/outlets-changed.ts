import { listWantingOutlet, lookForOutletAgain } from '../../store/queue.ts';
import type { LimitsDeps } from './deps.ts';

/** An outlet, or what one may take, was changed: mail that waited for one is tried now, not when its limit would have had room. */
export async function outletsChanged({ db, clock, signals }: LimitsDeps): Promise<void> {
  // Before the commit, so that who decides to wait at this moment notices.
  signals.emit('outlets');
  await db.commitInPieces(await listWantingOutlet(db), (some) =>
    lookForOutletAgain(
      db,
      some.map((one) => one.id),
      clock.steady(),
    ),
  );
  signals.emit('mail', null);
}
