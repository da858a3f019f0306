import type { Log } from './ports.ts';
import { faultText } from './problem.ts';

/** Work that is done again and again, one turn at a time; what goes wrong in a turn is told, and the next one comes all the same. */
export class Turns {
  private timer: NodeJS.Timeout | null = null;
  private running: Promise<void> | null = null;
  /** A long turn looks at it between its pieces. */
  isStopped = false;

  constructor(
    private readonly everyMs: number,
    private readonly log: Log,
    /** What is told of a turn that fails. */
    private readonly failed: string,
    private readonly turn: () => Promise<void>,
  ) {}

  /** The first turn is at once. */
  start(): void {
    this.timer = setInterval(() => this.look(), this.everyMs);
    this.timer.unref();
    this.look();
  }

  async stop(): Promise<void> {
    this.isStopped = true;
    if (this.timer) clearInterval(this.timer);
    await this.running;
  }

  /** A turn now, unless one is under way. */
  look(): void {
    this.running ??= this.turn()
      .catch((error: unknown) => this.log.error({ fault: faultText(error) }, this.failed))
      .finally(() => {
        this.running = null;
      });
  }
}
