import { type IntervalHistogram, monitorEventLoopDelay } from 'node:perf_hooks';

/** A minute in which the service kept everybody waiting. */
export interface SlowMinute {
  /** When it began, and how long the longest wait was, in ms. */
  at: number;
  ms: number;
  /** What ran longest in it, in words; null when nothing that is measured did. */
  what: string | null;
}

const RESOLUTION_MS = 10;
const LOOK_EVERY_MS = 1000;
const MINUTE = 60_000;
/** Nobody should ever wait longer for a turn. */
const LONG_MS = 50;
/** A wait that people notice. */
const BAD_MS = 250;
const MOST_MINUTES = 60;

/** Measures how long everybody waits for a turn of the event loop, and remembers what ran when that was long. */
export class LoopWatch {
  private readonly delays: IntervalHistogram = monitorEventLoopDelay({ resolution: RESOLUTION_MS });
  private readonly slow: SlowMinute[] = [];
  private longest: { what: string; ms: number } | null = null;
  private timer: NodeJS.Timeout | null = null;
  /** The longest wait since the last time that somebody asked, and all turns that were too long, for the metrics. */
  private worstMs = 0;
  private longTurns = 0;

  constructor(private readonly now: () => number) {}

  start(): void {
    this.delays.enable();
    this.timer = setInterval(() => this.look(), LOOK_EVERY_MS);
    this.timer.unref();
  }

  stop(): void {
    this.delays.disable();
    if (this.timer) clearInterval(this.timer);
  }

  /** Runs work that keeps everybody waiting while it lasts, and notes it when it was long. */
  during<T>(what: string, work: () => T): T {
    const begun = performance.now();
    try {
      return work();
    } finally {
      const ms = performance.now() - begun;
      if (ms > LONG_MS) {
        this.longTurns += 1;
        if (ms > (this.longest?.ms ?? 0)) this.longest = { what, ms };
      }
    }
  }

  /** Minutes of the last hour in which somebody waited noticeably, the newest first. */
  get slowMinutes(): readonly SlowMinute[] {
    return this.slow.filter((one) => one.at > this.now() - 60 * MINUTE);
  }

  get turnsTooLong(): number {
    return this.longTurns;
  }

  /** The longest wait since this was asked last, in ms. */
  takeWorst(): number {
    const worst = Math.max(this.worstMs, this.delays.max / 1e6 - RESOLUTION_MS);
    this.worstMs = 0;
    return Number.isFinite(worst) ? Math.max(0, worst) : 0;
  }

  private look(): void {
    const ms = Math.max(0, this.delays.max / 1e6 - RESOLUTION_MS);
    this.delays.reset();
    this.worstMs = Math.max(this.worstMs, ms);
    const { longest } = this;
    this.longest = null;
    if (ms < BAD_MS) return;
    const at = Math.floor(this.now() / MINUTE) * MINUTE;
    const [newest] = this.slow;
    if (newest?.at === at) {
      if (ms > newest.ms) Object.assign(newest, { ms, what: longest?.what ?? newest.what });
      return;
    }
    this.slow.unshift({ at, ms, what: longest?.what ?? null });
    this.slow.splice(MOST_MINUTES);
  }
}
