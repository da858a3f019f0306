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
import { BackgroundLoop } from '../base/background-loop.ts';
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
  private readonly loop: BackgroundLoop;
  /** The clock of the service goes on from there after a restart. */
  private readonly timekeeper: BackgroundLoop;

  constructor(
    private readonly context: ServiceContext,
    private readonly files: MessageFiles,
  ) {
    const { log, db, clock } = context;
    this.loop = new BackgroundLoop({ log, failed: 'some temporary data could not be removed', everyMs: EVERY_MS, turn: () => this.work() });
    const noteTime = async (): Promise<void> => {
      await db.commit(() => keepSetting(db, SERVICE_TIME, clock.steady()));
    };
    this.timekeeper = new BackgroundLoop({ log, failed: 'the time could not be saved', everyMs: TIME_EVERY_MS, turn: noteTime });
  }

  start(): void {
    this.loop.start();
    this.timekeeper.start(TIME_EVERY_MS);
  }

  async stop(): Promise<void> {
    await Promise.all([this.loop.stop(), this.timekeeper.stop()]);
  }

  private async work(): Promise<void> {
    const { limits, unusual, db, clock, log, loop } = this.context;
    loop.during('forgetting idle limits', () => limits.tidy());
    unusual.tidy();
    await removeOutdated(db, earlier(clock), () => this.loop.isStopped);
    while (!this.loop.isStopped && (await removeOldTrials(db, earlier(clock), earlier(clock) - TRIALS_KEPT_MS, SOME)) === SOME)
      await breathe();
    await deleteOutdated(this.context, () => this.loop.isStopped);
    await forgetExpunged(db, EXPUNGED_KEPT, () => this.loop.isStopped);
    while (!this.loop.isStopped && (await db.commit(() => forgetAnswered(db, earlier(clock) - ANSWERS_KEPT_MS, SOME))) === SOME)
      await breathe();
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
      if (this.loop.isStopped) return [];
      const gone = await db.commit(() => noteUnneeded(db, names, earlier(clock), earlier(clock) - DAY));
      if (gone.length > 0) await db.commit(() => gone.map((name) => forgetUnneeded(db, name)));
      return gone;
    }, breathe);
    if (removed > 0) log.info({ removed }, 'message files that nothing refers to were removed');
  }
}
