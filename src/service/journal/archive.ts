import { forgetChanges } from '../../store/checks.ts';
import { forgetRemovedDomainKeys } from '../../store/keys.ts';
import { forgetKnown, YES_KEPT_MS } from '../../store/known-recipients.ts';
import { forgetCharges, forgetOutcomes } from '../../store/ledger.ts';
import { forgetRemoved } from '../../store/removed-scopes.ts';
import { indexJourneys, prune, timeOfMost } from '../../store/search.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { earlier } from '../base/service-clock.ts';
import { TurnShare } from '../base/turn-share.ts';
import type { JournalDeps } from './deps.ts';

const DAY = 24 * 3_600_000;
/** Things that are done in one turn, by how long they take. */
const MOST_AT_ONCE = 400;
const LEAST_AT_ONCE = 50;
/** Pages of the database that hold nothing: so many are kept for what comes, and those that come and go with the mail; the others go back to the disk, a few at a time. */
const FREE_PAGES = 2000;
const PAGES_AT_ONCE = 200;
/** What nobody has needed for so long is given back. */
const UNUSED_MS = 60_000;
const EVERY_MS = 5000;
const SOON_MS = 20;
const TURNS_EVERY_MS = 10 * 60_000;

export interface Keeping {
  keepDays: number;
  mostEntries: number;
  ledgerDays: number;
}

/** Keeps the journal fit for searching, and journal and ledger within their bounds, a little at a time, so that nobody waits for it. */
export class Archive {
  private readonly loop: BackgroundLoop;
  private readonly shares = {
    index: new TurnShare(MOST_AT_ONCE, LEAST_AT_ONCE),
    prune: new TurnShare(MOST_AT_ONCE, LEAST_AT_ONCE),
    charges: new TurnShare(MOST_AT_ONCE, LEAST_AT_ONCE),
    outcomes: new TurnShare(MOST_AT_ONCE, LEAST_AT_ONCE),
  };
  private turnsForgotten = Number.NEGATIVE_INFINITY;
  /** The fewest pages that were free since then, and how many are given back for what was so before. */
  private free = { since: Number.NEGATIVE_INFINITY, fewest: Number.POSITIVE_INFINITY, surplus: 0 };

  constructor(
    private readonly context: JournalDeps,
    private readonly keeping: Keeping,
  ) {
    const turn = async () => ((await this.work()) ? SOON_MS : EVERY_MS);
    this.loop = new BackgroundLoop({ log: context.log, failed: 'old journal entries could not be removed', everyMs: EVERY_MS, turn });
  }

  start(): void {
    this.loop.start(EVERY_MS);
  }

  stop(): Promise<void> {
    return this.loop.stop();
  }

  /** One piece of work; true when there is more at once. */
  async work(): Promise<boolean> {
    const { db, clock } = this.context;
    const { shares } = this;
    const indexed = await db.commit(() => shares.index.do((most) => indexJourneys(db, clock.now(), most)));
    const byAge = earlier(clock) - this.keeping.keepDays * DAY;
    const before = Math.max(byAge, timeOfMost(db, this.keeping.mostEntries) ?? byAge);
    const gone = await db.commit(() => shares.prune.do((most) => prune(db, before, most)));
    await db.commit(() => forgetKnown(db, earlier(clock) - YES_KEPT_MS));
    await forgetRemovedDomainKeys(db);
    const charges = await db.commit(() =>
      shares.charges.do((most) => forgetCharges(db, earlier(clock) - this.keeping.ledgerDays * DAY, most)),
    );
    // What the ledger no longer has needs no name either; how sends ended is told as long as they are journalled.
    await db.commit(() => forgetRemoved(db, earlier(clock) - this.keeping.ledgerDays * DAY));
    const outcomes = await db.commit(() => shares.outcomes.do((most) => forgetOutcomes(db, before, most)));
    const turns = await this.forgetTurns(before);
    this.giveBack();
    return indexed || gone || charges || outcomes || turns || this.free.surplus > 0;
  }

  /** Texts that go out take pages and let them go again: giving those back would be work at the worst moment. */
  private giveBack(): void {
    const { db, clock, loop } = this.context;
    const { free } = this;
    const now = clock.steady();
    const pages = db.freePages();
    free.fewest = Math.min(free.fewest, pages);
    if (now - free.since >= UNUSED_MS) {
      if (free.since !== Number.NEGATIVE_INFINITY) free.surplus = Math.max(0, free.fewest - FREE_PAGES);
      free.since = now;
      free.fewest = pages;
    }
    if (free.surplus === 0) return;
    const some = Math.min(PAGES_AT_ONCE, free.surplus, Math.max(0, pages - FREE_PAGES));
    if (some > 0) loop.during('giving space back', () => db.giveBack(some));
    free.surplus = some === 0 ? 0 : free.surplus - some;
    free.fewest -= some;
  }

  /** The last turn of each subject stays, and all of those are looked at each time: not more often than it is of use. */
  private async forgetTurns(before: number): Promise<boolean> {
    const now = this.context.clock.steady();
    if (now - this.turnsForgotten < TURNS_EVERY_MS) return false;
    const isMore = (await forgetChanges(this.context.db, before, MOST_AT_ONCE)) >= MOST_AT_ONCE;
    if (!isMore) this.turnsForgotten = now;
    return isMore;
  }
}
