import { BackgroundLoop } from './background-loop.ts';
import type { Log } from './ports.ts';

/** Octets of the disk that has the data. */
export interface DiskSpace {
  free: number;
  total: number;
}

/**
 * `low`: worth a word. `short`: no new mail is taken, so that what is under way can be finished. `full`: something could not be written.
 */
export type SpaceState = 'plenty' | 'low' | 'short' | 'full';

const MIB = 1024 * 1024;
/** Below this, or below a twentieth of the disk when that is less, it is said. */
const LOW = 2048 * MIB;
const LOW_SHARE = 0.05;
/** Reports, outcomes and what was begun need some room still; a message may have a quarter of a GiB. */
const SHORT = 96 * MIB;
/** With so much free again, writing is worth a try. */
const LEAST_AFTER_FULL = 2 * SHORT;
const LOOK_EVERY_MS = 5000;

/** Watches the room on the disk, so that mail is refused while there is still room to finish what is under way. */
export class Space {
  private now: DiskSpace | null = null;
  private isFull = false;
  private readonly loop: BackgroundLoop;

  constructor(
    private readonly ask: () => Promise<DiskSpace>,
    private readonly log: Log,
  ) {
    this.loop = new BackgroundLoop({ log, failed: 'free disk space is unknown', everyMs: LOOK_EVERY_MS, turn: () => this.look() });
  }

  get state(): SpaceState {
    if (this.isFull) return 'full';
    if (!this.now) return 'plenty';
    const { free, total } = this.now;
    if (free < SHORT) return 'short';
    return free < Math.min(LOW, total * LOW_SHARE) ? 'low' : 'plenty';
  }

  /** Whether new mail may be taken. */
  get isEnough(): boolean {
    return this.state === 'plenty' || this.state === 'low';
  }

  get free(): number | null {
    return this.now?.free ?? null;
  }

  async start(): Promise<void> {
    await this.look();
    this.loop.start(LOOK_EVERY_MS);
  }

  stop(): Promise<void> {
    return this.loop.stop();
  }

  /** Something could not be written for want of room. */
  wasFull(): void {
    if (!this.isFull) this.log.error({ free: this.now?.free ?? null }, 'the disk is full: new mail is refused until there is space');
    this.isFull = true;
  }

  /** Something could be written again. */
  wasWritten(): void {
    this.isFull = false;
  }

  async look(): Promise<void> {
    const before = this.state;
    this.now = await this.ask();
    if (this.now.free > LEAST_AFTER_FULL) this.isFull = false;
    if (this.state !== before) this.log.warn({ state: this.state, free: this.now.free }, 'free disk space has changed');
  }
}
