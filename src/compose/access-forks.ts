import cluster, { type Worker } from 'node:cluster';

/** An access process that loads its program. It says that it is up, and then nothing before it is told to begin. */
export interface AccessFork {
  worker: Worker;
  /** Rejects when it ends before that. */
  isUp: Promise<void>;
}

/** Access processes take as long to load as the service does; the first ones are started while it gets ready itself. */
export class AccessForks {
  private readonly early: AccessFork[];

  constructor(
    program: string,
    readonly count: number,
  ) {
    // Each process accepts for itself: the service has nothing to do with a connection, and one on its way to a process that dies can't be left with
    // nobody. Node reads the policy in its first `setupPrimary`, so it comes before.
    cluster.schedulingPolicy = cluster.SCHED_NONE;
    cluster.setupPrimary({ exec: program, serialization: 'advanced', args: [] });
    this.early = Array.from({ length: count }, fork);
  }

  /** One of the first, or a new one. */
  take(): AccessFork {
    return this.early.pop() ?? fork();
  }

  /** Nobody wants those that were not taken. */
  destroy(): void {
    for (const { worker } of this.early.splice(0)) worker.process.kill('SIGKILL');
  }
}

function fork(): AccessFork {
  const worker = cluster.fork();
  const isUp = new Promise<void>((resolve, reject) => {
    worker.once('message', () => resolve());
    worker.once('exit', () => reject(new Error('an access process ended before it was up')));
  });
  // Whoever waits for it is told.
  isUp.catch(() => {});
  return { worker, isUp };
}
