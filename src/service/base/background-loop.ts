import type { Log } from './ports.ts';
import { faultText } from './problem.ts';

interface LoopOptions {
  log: Pick<Log, 'error'>;
  /** What is told of a turn that fails: the next one comes all the same. */
  failed: string;
  /** Between the end of a turn and the next one, where the turn says nothing else. */
  everyMs: number;
  /**
   * One turn; `isWoken` when somebody asked for it. Returns after how many ms the next one is due, null when it is not before somebody asks,
   * nothing for the usual time.
   */
  turn: ((isWoken: boolean) => Promise<number | null> | number | null) | ((isWoken: boolean) => Promise<void>) | (() => void);
}

/** Work in the background, one turn at a time, for as long as the service runs. */
export class BackgroundLoop {
  private timer: NodeJS.Timeout | null = null;
  /** When the next turn is due, by the steady clock. */
  private dueAt = Number.POSITIVE_INFINITY;
  private immediate: NodeJS.Immediate | null = null;
  private running: Promise<void> | null = null;
  /** What was asked for while a turn was under way: another one within so many ms. */
  private askedMs: number | null = null;
  /** A long turn looks at it between its pieces. */
  isStopped = false;

  constructor(private readonly options: LoopOptions) {}

  /** The first turn comes after so many ms. */
  start(firstMs = 0): void {
    if (firstMs === 0) this.wake();
    else this.wakeWithin(firstMs);
  }

  /** A turn now; once more when one is under way. */
  wake(): void {
    if (this.isStopped || this.immediate) return;
    if (this.running !== null) {
      this.askedMs = 0;
      return;
    }
    this.clear();
    this.immediate = setImmediate(() => {
      this.immediate = null;
      this.run(true);
    });
  }

  /** The next turn comes within so many ms. */
  wakeWithin(ms: number): void {
    if (this.isStopped || this.immediate) return;
    if (this.running !== null) {
      this.askedMs = Math.min(this.askedMs ?? ms, ms);
      return;
    }
    const dueAt = performance.now() + ms;
    if (dueAt >= this.dueAt) return;
    this.clear();
    this.dueAt = dueAt;
    this.timer = setTimeout(() => {
      this.clear();
      this.run(false);
    }, ms).unref();
  }

  /** No turn begins any more; resolves at the end of the one that is under way. */
  async stop(): Promise<void> {
    this.isStopped = true;
    this.clear();
    if (this.immediate) clearImmediate(this.immediate);
    this.immediate = null;
    await this.running;
  }

  private clear(): void {
    if (this.timer) clearTimeout(this.timer);
    this.timer = null;
    this.dueAt = Number.POSITIVE_INFINITY;
  }

  private run(isWoken: boolean): void {
    this.running = this.turn(isWoken).then((next) => {
      this.running = null;
      const { askedMs } = this;
      this.askedMs = null;
      if (askedMs === 0 || next === 0) this.wake();
      else if (next !== null || askedMs !== null)
        this.wakeWithin(Math.min(next ?? Number.POSITIVE_INFINITY, askedMs ?? Number.POSITIVE_INFINITY));
    });
  }

  /** Returns after how many ms the next one is due, null when it is not. */
  private async turn(isWoken: boolean): Promise<number | null> {
    const { turn, everyMs, log, failed } = this.options;
    try {
      const next = await turn(isWoken);
      return next === undefined ? everyMs : next;
    } catch (error) {
      if (!this.isStopped) log.error({ fault: faultText(error) }, failed);
      return everyMs;
    }
  }
}
