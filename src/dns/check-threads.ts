import { type Check, checkWith } from '../core/checks/check-domain.ts';
import type { CheckFacts } from '../core/checks/domain-checks.ts';
import type { Finding } from '../core/checks/finding.ts';
import { ThreadCalls } from '../threads/calls.ts';
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
/** A domain to be checked in a run, or the end of a run. */
type CheckQuestion = { run: number; facts: CheckFacts | null };
type CheckAnswer = { fared: Fared[] } & ({ findings: Finding[] } | { fault: string });

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

/** What a thread that checks does: it judges what it is given, each run with views of its own. */
export function checkWork({ mostAtOnce, ...settings }: CheckThreadSettings): { answer: (question: CheckQuestion) => Promise<CheckAnswer> } {
  const now = () => performance.now();
  const health = new ToldHealth(now, settings.timeoutMs);
  const dns = openDns({ ...settings, now: Date.now, steady: now, health, mostAtOnce });
  const runs = new Map<number, Check>();
  return {
    answer: async ({ run, facts }) => {
      if (!facts) {
        runs.delete(run);
        return { findings: [], fared: [] };
      }
      let check = runs.get(run);
      if (!check) {
        check = checkWith(dns.openViews());
        runs.set(run, check);
      }
      try {
        return { findings: await check(facts), fared: health.take() };
      } catch (error) {
        return { fault: error instanceof Error ? (error.stack ?? error.message) : String(error), fared: health.take() };
      }
    },
  };
}

/** Checks of many domains with one view of DNS between them, which is kept until the end. */
export interface CheckRunInThreads {
  check: Check;
  end(): void;
}

/** Threads in which many domains are checked, so that the service goes on with mail; made when they are wanted. */
export class CheckThreads {
  private readonly threads: ThreadCalls<CheckQuestion, CheckAnswer>[];
  private lastRun = 0;
  private isStopped = false;

  constructor(
    program: string,
    { mostAtOnce, ...settings }: CheckThreadSettings,
    private readonly health: ServerHealth,
    cores: number,
  ) {
    const most = Math.max(1, Math.min(MOST_THREADS, cores));
    const given = { ...settings, mostAtOnce: Math.max(1, Math.floor(mostAtOnce / most)) };
    const options = { name: 'a thread that checks domains', mostMib: MOST_MIB, idleMs: IDLE_MS };
    this.threads = Array.from({ length: most }, () => new ThreadCalls(program, given, options));
  }

  /** Begins a run. What was given to a thread that fails rejects; the next is given to a new one. */
  begin(): CheckRunInThreads {
    this.lastRun += 1;
    const run = this.lastRun;
    return {
      check: async (facts, onDone = () => {}) => {
        if (this.isStopped) throw new Error('no domain is checked any more');
        const answer = await this.freest().ask({ run, facts });
        this.hear(answer.fared);
        if ('fault' in answer) throw new Error(answer.fault);
        for (const subject of new Set(answer.findings.map((one) => one.subject))) onDone(subject);
        return answer.findings;
      },
      end: () => {
        for (const thread of this.threads) thread.tell({ run, facts: null });
      },
    };
  }

  /** What is under way rejects, and so does what comes after. */
  stop(): void {
    this.isStopped = true;
    for (const thread of this.threads) thread.stop().catch(() => {});
  }

  /** The first thread that is not busy, so that no more are made than are wanted; else the one with the least to do. */
  private freest(): ThreadCalls<CheckQuestion, CheckAnswer> {
    const loads = this.threads.map((thread) => thread.load);
    const free = loads.findIndex((load) => load < BUSY);
    return this.threads[free === -1 ? loads.indexOf(Math.min(...loads)) : free] as ThreadCalls<CheckQuestion, CheckAnswer>;
  }

  /** What the service knows of its name servers does not depend on who asked them. */
  private hear(fared: readonly Fared[]): void {
    for (const { server, ms, silences } of fared) {
      if (ms !== null) this.health.answered(server, ms);
      for (let count = 0; count < silences; count += 1) this.health.silent(server);
    }
  }
}
