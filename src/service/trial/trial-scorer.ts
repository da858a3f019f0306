import { LARGEST_SCORED } from '../../core/trial/reading.ts';
import type { MessageSubject } from '../../core/vocabulary.ts';
import { findDomainFacts } from '../../store/domains.ts';
import type { QueueItem } from '../../store/queue.ts';
import * as store from '../../store/trials.ts';
import { faultText } from '../base/problem.ts';
import { earlier } from '../base/service-clock.ts';
import type { TrialDeps } from './deps.ts';
import { scoreLeaving, scoreTrial } from './score-trial.ts';

const DAY = 24 * 3_600_000;
const OF_ITS_TEXT: ReadonlySet<MessageSubject> = new Set(['fields', 'parts', 'links', 'attachments', 'list']);

/** Scores what comes to trials, one message after the other, and one message a day of each domain that is sampled. */
export class TrialScorer {
  private work: Promise<void> = Promise.resolve();
  private isStopped = false;
  private waiting = 0;

  constructor(private readonly context: TrialDeps) {}

  start(): void {
    const { db, signals } = this.context;
    this.isStopped = false;
    signals.on('trial', this.arrived);
    signals.on('mail', this.leaves);
    // What came, and was not scored before a stop.
    for (const id of store.unscoredTrials(db)) this.arrived(id);
  }

  async stop(): Promise<void> {
    this.isStopped = true;
    this.context.signals.off('trial', this.arrived).off('mail', this.leaves);
    await this.work;
  }

  /** Resolves when all that waits now is scored. */
  settled(): Promise<void> {
    return this.work;
  }

  private readonly arrived = (id: number): void => this.next(() => scoreTrial(this.context, id, this.context.lookup));

  /** At most one of a domain a day; the first that comes. */
  private readonly leaves = (items: QueueItem[] | null): void => {
    const item = items?.find((one) => one.kind === 'submitted' && one.senderDomain !== null && one.size <= LARGEST_SCORED);
    const domain = item?.senderDomain ? findDomainFacts(this.context.db, item.senderDomain) : undefined;
    if (!item || !domain?.isSampled || this.waiting > 0) return;
    this.next(() => this.sample(item, domain.id));
  };

  private async sample(item: QueueItem, domainId: number): Promise<void> {
    const { db, clock, lookup, desk } = this.context;
    const last = store.lastSample(db, domainId);
    if (last !== null && earlier(clock) - last < DAY) return;
    const { file, size, signsFor, acceptedAt, journeyId } = item;
    const sender = item.sender ?? '';
    const reading = await desk.read({ file, size }, acceptedAt);
    if (!reading) return;
    const { findings, ...score } = await scoreLeaving(this.context, { file, size, signsFor, sender, at: acceptedAt }, reading, lookup);
    // Of a sample nothing is kept that somebody wrote.
    const bare = findings.map((one) => (OF_ITS_TEXT.has(one.subject) ? { ...one, seen: [] } : one));
    await db.commit(() => {
      // The domain may be gone meanwhile.
      if (!findDomainFacts(db, item.senderDomain ?? '')) return;
      const id = store.addSample(db, { domainId, journeyId, sender, size, at: clock.now() });
      store.addScore(db, id, clock.now(), { ...score, findings: bare });
    });
  }

  private next(work: () => Promise<unknown>): void {
    this.waiting += 1;
    this.work = this.work
      .then(() => (this.isStopped ? undefined : work()))
      .then(
        () => {},
        (error: unknown) => this.context.log.error({ fault: faultText(error) }, 'a message could not be scored'),
      )
      .finally(() => {
        this.waiting -= 1;
      });
  }
}
