import { randomBytes } from 'node:crypto';
import { BoundedMap } from '../../core/bounded-map.ts';
import type { Log } from './ports.ts';
import { faultText, Problem } from './problem.ts';

/** How far something has come, and in the end what it has done. */
export type RunState<Result> = Result & {
  /** Under which it is asked for again; nobody can guess it, since passwords may come with it. */
  id: string;
  isOver: boolean;
  /** Of all, how many are done with. */
  done: number;
  total: number;
};

/** Under way at the same time. */
const MOST_RUNS = 10;
/** Whose ends are known. */
const MOST_REFUSED = 1000;
/** A result can be asked for again for so long: an answer may be lost on its way. */
const KEPT_MS = 10 * 60_000;
/** Whoever asks waits so long for the end before it is told how far it has come. */
const PATIENCE_MS = 1500;

interface Run<Result> {
  state: RunState<Result>;
  over: Promise<void>;
  problem: unknown;
}

/** Work that may take longer than a request may: whoever began it asks again until it is over, and gets the result. */
export class LongRuns<Result extends object> {
  private readonly runs = new Map<string, Run<Result>>();
  private readonly refused = new BoundedMap<string, true>(MOST_REFUSED);

  constructor(
    /** What is told while it is not over. */
    private readonly nothing: Result,
    private readonly log: () => Log,
    /** Whether a result says that nothing was done. */
    private readonly isRefusal: (result: Result) => boolean,
  ) {}

  /** Begins, and tells what has come of it within a moment. Throws what stands in its way. */
  async begin(work: (onProgress: (done: number, total: number) => void) => Promise<Result>): Promise<RunState<Result>> {
    if ([...this.runs.values()].filter((one) => !one.state.isOver).length >= MOST_RUNS)
      throw new Problem('too-many', 'Too many such tasks are running.', 'Try again when one has finished.');
    const id = randomBytes(18).toString('base64url');
    const state: RunState<Result> = { ...this.nothing, id, isOver: false, done: 0, total: 0 };
    const run: Run<Result> = { state, over: Promise.resolve(), problem: null };
    run.over = work((done, total) => Object.assign(state, { done, total })).then(
      (result) => {
        Object.assign(state, result, { done: state.total, isOver: true });
        if (this.isRefusal(result)) this.refused.set(id, true);
      },
      (error: unknown) => {
        run.problem = error;
        state.isOver = true;
        this.refused.set(id, true);
        if (!(error instanceof Problem)) this.log().error({ fault: faultText(error) }, 'a background task failed');
      },
    );
    this.runs.set(id, run);
    run.over.finally(() => setTimeout(() => this.runs.delete(id), KEPT_MS).unref()).catch(() => {});
    return this.look(id);
  }

  /** Whether one has ended without doing anything. */
  wasRefused(id: string): boolean {
    return this.refused.has(id);
  }

  /** What has become of one, now or in a moment. */
  async look(id: string): Promise<RunState<Result>> {
    const run = this.runs.get(id);
    if (!run) throw new Problem('not-found', 'There is no such task, or it finished some time ago.', 'Check whether its work is done.');
    let timer: NodeJS.Timeout | undefined;
    await Promise.race([
      run.over,
      new Promise((resolve) => {
        timer = setTimeout(resolve, PATIENCE_MS);
      }),
    ]);
    clearTimeout(timer);
    if (run.problem) throw run.problem;
    return { ...run.state };
  }
}
