import { addEntry } from '../../store/journeys.ts';
import { bringBack, countAfter } from '../../store/realign.ts';
import { keepSetting } from '../../store/settings.ts';
import { Problem } from '../base/problem.ts';
import { SERVICE_TIME } from '../base/service-clock.ts';
import type { OverviewDeps } from './deps.ts';

export interface ClockReport {
  /** What the machine's clock shows, and the time by which the service waits and charges. */
  wall: number;
  service: number;
  /** How far the service's time is ahead because it once ran with a wrong clock, in ms; 0 when it is not. */
  aheadMs: number;
  /** How far the machine's clock was set since the start, in ms. */
  steppedMs: number;
  /** Charges that are dated after now. */
  chargesAhead: number;
}

export const clockReport = ({ clock, db }: OverviewDeps): ClockReport => ({
  wall: clock.now(),
  service: clock.steady(),
  aheadMs: Math.round(clock.ahead),
  steppedMs: Math.round(clock.stepped),
  chargesAhead: countAfter(db, clock.now()),
});

/** Puts right what was dated while the clock was wrong; the machine's clock must be right by now. The ledger's sums stay as they are. */
export async function realignClock(context: OverviewDeps): Promise<ClockReport & { charges: number }> {
  const { db, clock, limits, signals } = context;
  const ms = clock.ahead;
  if (ms === 0)
    throw new Problem(
      'in-use',
      'The service’s time is not ahead of the machine’s clock.',
      'If the machine’s clock is wrong, set it first, and restart the service.',
    );
  const now = clock.now();
  const charges = await db.commit(() => {
    const count = bringBack(db, now, ms);
    keepSetting(db, SERVICE_TIME, now);
    addEntry(db, {
      at: now,
      journeyId: null,
      domain: null,
      event: 'clock-realigned',
      data: { minutes: Math.round(ms / 60_000), charges: count },
    });
    return count;
  });
  clock.realign();
  limits.readAnew();
  for (const guard of Object.values(context.guards)) guard.beginAnew();
  signals.emit('realigned');
  signals.emit('queue-changed');
  signals.emit('room');
  return { ...clockReport(context), charges };
}
