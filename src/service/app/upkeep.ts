import { createHash } from 'node:crypto';
import { breathe } from '../../core/pieces.ts';
import { forgetAnswered } from '../../store/answered-requests.ts';
import { forgetExpunged, removeOutdated } from '../../store/folder-upkeep.ts';
import { listLost, removeLost } from '../../store/lost-texts.ts';
import type { MessageFiles } from '../../store/message-files.ts';
import { fileInUse, forgetUnneeded, noteUnneeded } from '../../store/messages.ts';
import { keepSetting } from '../../store/settings.ts';
import { removeOldTrials } from '../../store/trials.ts';
import { ANSWERS_KEPT_MS } from '../base/answered-requests.ts';
import { faultText } from '../base/problem.ts';
import { earlier, SERVICE_TIME } from '../base/service-clock.ts';
import { deleteOutdated } from '../directory/removed-mailboxes.ts';
import type { ServiceContext } from './context.ts';

const EVERY_MS = 10 * 60_000;
const TIME_EVERY_MS = 60_000;
const DAY = 24 * 3_600_000;
/** Messages that were scored, and samples. */
const TRIALS_KEPT_MS = 30 * DAY;

const MOST_LOST = 100;
/** So many messages that were in a folder are remembered of each. */
const EXPUNGED_KEPT = 20_000;
const SOME = 500;

/** What has to be put away now and then: old junk, files that nothing needs, counts that nobody asks for. A little at a time. */
export class Upkeep {
  private timers: NodeJS.Timeout[] = [];
  private running: Promise<void> = Promise.resolve();
  private isRunning = false;
  private stopped = false;

  constructor(
    private readonly context: ServiceContext,
    private readonly files: MessageFiles,
  ) {}

  start(): void {
    const { context } = this;
    this.tidy();
    this.timers = [
      setInterval(() => this.tidy(), EVERY_MS),
      setInterval(() => {
        context.db
          .commit(() => keepSetting(context.db, SERVICE_TIME, context.clock.steady()))
          .catch((error: unknown) => context.log.warn({ fault: String(error) }, 'the time could not be noted'));
      }, TIME_EVERY_MS),
    ];
    for (const one of this.timers) one.unref();
  }

  async stop(): Promise<void> {
    this.stopped = true;
    for (const one of this.timers) clearInterval(one);
    await this.running;
  }

  private tidy(): void {
    if (this.isRunning) return;
    this.isRunning = true;
    this.running = this.work()
      .catch((error: unknown) => this.context.log.error({ fault: faultText(error) }, 'not everything could be put away'))
      .finally(() => {
        this.isRunning = false;
      });
  }

  private async work(): Promise<void> {
    const { limits, unusual, db, clock, log, loop } = this.context;
    loop.during('forgetting idle limits', () => limits.tidy());
    unusual.tidy();
    await removeOutdated(db, earlier(clock), () => this.stopped);
    while (!this.stopped && (await removeOldTrials(db, earlier(clock), earlier(clock) - TRIALS_KEPT_MS, SOME)) === SOME) await breathe();
    await deleteOutdated(this.context, () => this.stopped);
    await forgetExpunged(db, EXPUNGED_KEPT, () => this.stopped);
    while (!this.stopped && (await db.commit(() => forgetAnswered(db, earlier(clock) - ANSWERS_KEPT_MS, SOME))) === SOME) await breathe();
    for (const { file } of listLost(db, MOST_LOST)) {
      const isWhole = await this.context.texts.read(file).then(
        (content) => createHash('sha256').update(content).digest('hex') === file,
        () => false,
      );
      await db.commit(() => {
        if (isWhole || !fileInUse(db, file)) removeLost(db, file);
      });
    }
    const removed = await this.files.sweep(async (names) => {
      if (this.stopped) return [];
      const gone = await db.commit(() => noteUnneeded(db, names, earlier(clock), earlier(clock) - DAY));
      if (gone.length > 0) await db.commit(() => gone.map((name) => forgetUnneeded(db, name)));
      return gone;
    }, breathe);
    if (removed > 0) log.info({ removed }, 'message files that nothing refers to were removed');
  }
}
