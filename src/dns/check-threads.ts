import { Worker } from 'node:worker_threads';
import { type Check, type CheckFacts, checkWith } from '../core/checks/check-domain.ts';
import type { Finding } from '../core/checks/finding.ts';
import { openDns } from './access.ts';
import { keyOf, ServerHealth } from './server-health.ts';
import type { Server } from './transport.ts';

/** What a thread that checks domains is made with. */
export interface CheckThreadSettings {
  resolvers: readonly Server[];
  timeoutMs: number;
  dial: readonly { to: Server; through: Server }[];
  /** Questions that it has under way at once. */
  mostAtOnce: number;
}

/** How a name server has fared since the last message: its last reply in ms, and the silences after it. */
type Fared = { server: Server; ms: number | null; silences: number };
export type ToThread = { kind: 'check'; run: number; id: number; facts: CheckFacts } | { kind: 'end'; run: number };
export type FromThread = { id: number; fared: Fared[] } & ({ findings: Finding[] } | { fault: string });

/** Of a thread's own memory: records that others wrote are no reason to take everybody's. */
const MOST_MIB = 512;
/** A thread that has had nothing to do for so long ends. */
const IDLE_MS = 60_000;
/** More threads than this would only wait for name servers. */
const MOST_THREADS = 4;
/** Domains that a thread has under way when the next one is wanted. */
const BUSY = 12;

/** A health that remembers what it was told, for the service. */
class ToldHealth extends ServerHealth {
  private readonly fared = new Map<string, Fared>();

  override answered(server: Server, ms: number): void {
    super.answered(server, ms);
    const fared = this.of(server);
    fared.ms = ms;
    fared.silences = 0;
  }

  override silent(server: Server): void {
    super.silent(server);
    this.of(server).silences += 1;
  }

  /** What came since it was asked last. */
  take(): Fared[] {
    const fared = [...this.fared.values()];
    this.fared.clear();
    return fared;
  }

  private of(server: Server): Fared {
    const key = keyOf(server);
    let fared = this.fared.get(key);
    if (!fared) {
      fared = { server, ms: null, silences: 0 };
      this.fared.set(key, fared);
    }
    return fared;
  }
}

/** The thread's side: judges what it is given, each run with views of its own. */
export function checksInThread(
  { mostAtOnce, ...settings }: CheckThreadSettings,
  say: (message: FromThread) => void,
): (message: ToThread) => void {
  const now = () => performance.now();
  const health = new ToldHealth(now, settings.timeoutMs);
  const dns = openDns({ ...settings, now: Date.now, steady: now, health, mostAtOnce });
  const runs = new Map<number, Check>();
  return (message) => {
    if (message.kind === 'end') {
      runs.delete(message.run);
      return;
    }
    const { run, id, facts } = message;
    let check = runs.get(run);
    if (!check) {
      check = checkWith(dns.openViews());
      runs.set(run, check);
    }
    check(facts).then(
      (findings) => say({ id, findings, fared: health.take() }),
      (error: unknown) => say({ id, fault: error instanceof Error ? (error.stack ?? error.message) : String(error), fared: health.take() }),
    );
  };
}

interface Waiting {
  resolve: (findings: Finding[]) => void;
  reject: (error: Error) => void;
}

/** One thread and what it has under way; it ends by itself when it has had nothing to do for a while. */
class CheckThread {
  private readonly waiting = new Map<number, Waiting>();
  private readonly worker: Worker;
  private lastId = 0;
  private idle: NodeJS.Timeout | null = null;

  constructor(
    program: string,
    settings: CheckThreadSettings,
    onFared: (fared: readonly Fared[]) => void,
    private readonly onEnd: () => void,
  ) {
    this.worker = new Worker(program, { workerData: settings, resourceLimits: { maxOldGenerationSizeMb: MOST_MIB } });
    // Nobody who ends the service waits for it.
    this.worker.unref();
    this.worker.on('message', (message: FromThread) => {
      onFared(message.fared);
      const waiting = this.waiting.get(message.id);
      this.waiting.delete(message.id);
      if (this.waiting.size === 0) this.idle = setTimeout(() => this.stop(), IDLE_MS).unref();
      if ('fault' in message) waiting?.reject(new Error(message.fault));
      else waiting?.resolve(message.findings);
    });
    let fault = 'a thread that checks domains was ended';
    this.worker.on('error', (error) => {
      fault = error.stack ?? error.message;
    });
    this.worker.on('exit', () => {
      if (this.idle) clearTimeout(this.idle);
      this.onEnd();
      for (const { reject } of this.waiting.values()) reject(new Error(fault));
      this.waiting.clear();
    });
  }

  get load(): number {
    return this.waiting.size;
  }

  check(run: number, facts: CheckFacts): Promise<Finding[]> {
    if (this.idle) clearTimeout(this.idle);
    this.lastId += 1;
    const id = this.lastId;
    return new Promise((resolve, reject) => {
      this.waiting.set(id, { resolve, reject });
      this.worker.postMessage({ kind: 'check', run, id, facts } satisfies ToThread);
    });
  }

  forget(run: number): void {
    this.worker.postMessage({ kind: 'end', run } satisfies ToThread);
  }

  stop(): void {
    // Nobody gives it anything more while it ends.
    this.onEnd();
    this.worker.terminate().catch(() => {});
  }
}

/** Checks of many domains with one view of DNS between them, which is kept until the end. */
export interface CheckRunInThreads {
  check: Check;
  end(): void;
}

/** Threads in which many domains are checked, so that the service goes on with mail; made when they are wanted. */
export class CheckThreads {
  private readonly threads: (CheckThread | null)[];
  private readonly settings: CheckThreadSettings;
  private lastRun = 0;
  private isStopped = false;

  constructor(
    private readonly program: string,
    { mostAtOnce, ...settings }: CheckThreadSettings,
    private readonly health: ServerHealth,
    cores: number,
  ) {
    const most = Math.max(1, Math.min(MOST_THREADS, cores));
    this.threads = Array.from({ length: most }, () => null);
    this.settings = { ...settings, mostAtOnce: Math.max(1, Math.floor(mostAtOnce / most)) };
  }

  /** Begins a run. What was given to a thread that fails rejects; the next is given to a new one. */
  begin(): CheckRunInThreads {
    this.lastRun += 1;
    const run = this.lastRun;
    return {
      check: async (facts, onDone = () => {}) => {
        const findings = await this.freest().check(run, facts);
        for (const subject of new Set(findings.map((one) => one.subject))) onDone(subject);
        return findings;
      },
      end: () => {
        for (const thread of this.threads) thread?.forget(run);
      },
    };
  }

  /** What is under way rejects, and so does what comes after. */
  stop(): void {
    this.isStopped = true;
    for (const thread of this.threads) thread?.stop();
  }

  /** The first thread that is not busy, so that no more are made than are wanted; else the one with the least to do. */
  private freest(): CheckThread {
    const loads = this.threads.map((thread) => thread?.load ?? 0);
    const free = loads.findIndex((load) => load < BUSY);
    const at = free === -1 ? loads.indexOf(Math.min(...loads)) : free;
    return this.threads[at] ?? this.open(at);
  }

  private open(at: number): CheckThread {
    if (this.isStopped) throw new Error('no domain is checked any more');
    const ended = (): void => {
      if (this.threads[at] === thread) this.threads[at] = null;
    };
    const thread = new CheckThread(this.program, this.settings, (fared) => this.hear(fared), ended);
    this.threads[at] = thread;
    return thread;
  }

  /** What the service knows of its name servers does not depend on who asked them. */
  private hear(fared: readonly Fared[]): void {
    for (const { server, ms, silences } of fared) {
      if (ms !== null) this.health.answered(server, ms);
      for (let count = 0; count < silences; count += 1) this.health.silent(server);
    }
  }
}
