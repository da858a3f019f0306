import * as store from '../../store/sign-ins.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { faultText } from '../base/problem.ts';
import type { AccessDeps } from './deps.ts';
import type { Guarded } from './sign-in-guard.ts';

const EVERY_MS = 1000;
const HOUR = 3_600_000;
const KEPT_PLACES_MS = 30 * 24 * HOUR;
const MOST_PLACES = 100_000;
const FAILED = 'lockouts could not be saved';

/** Writes down who is locked out and who signed in from where, so that a restart forgets neither. */
export class KeptGuesses {
  private readonly loop: BackgroundLoop;

  constructor(private readonly context: Pick<AccessDeps, 'db' | 'clock' | 'guards' | 'log'>) {
    this.loop = new BackgroundLoop({ log: context.log, failed: FAILED, everyMs: EVERY_MS, turn: () => this.save() });
  }

  /** Takes up what an earlier run left, and goes on from there. */
  start(): void {
    const { db, clock, guards } = this.context;
    for (const [name, guard] of Object.entries(guards))
      guard.restore(
        store.keptFailures(db, name).map((one) => ({ ...one, of: one.of as Guarded })),
        store.keptPlaces(db, name, MOST_PLACES),
        clock.steady(),
      );
    this.loop.start(EVERY_MS);
  }

  async stop(): Promise<void> {
    await this.loop.stop();
    await this.save();
  }

  /** One piece of work: what has changed since the last time. What can't be written now is not tried again; the next change is. */
  async save(): Promise<void> {
    const { db, clock, guards, log } = this.context;
    const changes = Object.entries(guards).map(([name, guard]) => ({ name, ...guard.unsaved() }));
    if (changes.every((one) => one.records.length === 0 && one.places.length === 0)) return;
    const now = clock.steady();
    await db
      .commit(() => {
        for (const { name, records, places } of changes) {
          for (const { of, name: who, record } of records) {
            if (record) store.keepFailure(db, name, record);
            else store.dropFailure(db, name, of, who);
          }
          for (const { account, place, at } of places) store.keepPlace(db, name, account, place, at);
        }
        store.forgetFailures(db, now - HOUR);
        store.forgetPlaces(db, now - KEPT_PLACES_MS);
      })
      .catch((error: unknown) => log.warn({ fault: faultText(error) }, FAILED));
  }
}
