import type { Clock } from './ports.ts';

/** The latest time that the service has seen, so that no later start begins before it. */
export const SERVICE_TIME = 'service-time';

/** A time of the steady clock as people read it on the wall; null stays null. */
export function toWall(clock: Clock, at: number): number;
export function toWall(clock: Clock, at: number | null): number | null;
export function toWall(clock: Clock, at: number | null): number | null {
  return at === null ? null : at + clock.now() - clock.steady();
}

/** A time of the wall as the steady clock will have it, as long as nobody sets the wall's. */
export const toSteady = (clock: Clock, at: number): number => at + clock.steady() - clock.now();

/** A time that neither clock has come to before: what is thrown away by its age must be old by both. */
export const earlier = (clock: Clock): number => Math.min(clock.now(), clock.steady());

/** Further apart than that, somebody has set a clock; a little is what clocks do by themselves. */
const APART_MS = 60_000;
/** A start that much before what the database has seen is no matter of seconds. */
const AHEAD_MS = 5 * 60_000;

/**
 * Wall time for everything that people read, and steady time for everything that waits or counts. The steady clock begins no earlier than the newest
 * time in the database, runs with the machine, and no step of the wall's clock moves it.
 */
export class ServiceClock implements Clock {
  private base: number;
  private readonly begun: number;
  private readonly startedApart: number;

  /** `newest`: the latest time that the database has seen; `wall` and `machine` in ms. */
  constructor(
    newest: number,
    private readonly wall: () => number = Date.now,
    private readonly machine: () => number = () => performance.now(),
  ) {
    this.begun = machine();
    this.base = Math.max(wall(), newest);
    this.startedApart = this.base - wall();
  }

  readonly now = (): number => this.wall();
  readonly steady = (): number => this.base + Math.floor(this.machine() - this.begun);

  /** How far the database was ahead of the machine's clock at the start, in ms; 0 when no clock was wrong. */
  get ahead(): number {
    const apart = this.steady() - this.wall();
    return this.startedApart > AHEAD_MS && apart > AHEAD_MS ? apart : 0;
  }

  /** How far the machine's clock was set since the start, in ms, forward or back; 0 when it was not. */
  get stepped(): number {
    const apart = this.wall() - this.steady() + this.startedApart;
    return Math.abs(apart) > APART_MS ? apart : 0;
  }

  /** Begins again at the wall's time: the times in the database were put right. */
  realign(): void {
    this.base = this.wall() - Math.floor(this.machine() - this.begun);
  }
}
