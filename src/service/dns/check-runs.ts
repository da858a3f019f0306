import { type Check, checkWith } from '../../core/checks/check-domain.ts';
import { leading } from '../../core/checks/finding.ts';
import { dueChecks, findHostCheck } from '../../store/checks.ts';
import { allDomainNames, findDomain } from '../../store/domains.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { faultText } from '../base/problem.ts';
import type { CheckRun, CheckSummary } from './check-run.ts';
import { checkOne } from './checks.ts';
import type { DnsDeps } from './deps.ts';
import { checkHostNow } from './host.ts';
import { retireDueKeys } from './keys.ts';

/** Domains that are checked at the same time: most of a check is waiting for answers. */
const AT_ONCE = 48;
/** The clock of the schedule. */
const TICK_MS = 15_000;
/** Domains that one turn of the schedule takes; the rest has its turn at the next. */
const MOST_A_TURN = 200;

/** So few domains are checked where everything else is done: a thread takes longer to start than they need. */
const FEW = 8;

/** Works through names with a bounded number at once, and one view of DNS between them; begins no more once `isOver`. */
async function inParallel(
  { dns }: DnsDeps,
  names: string[],
  work: (name: string, check: Check) => Promise<void>,
  isOver: () => boolean = () => false,
): Promise<void> {
  const { check, end } = names.length > FEW ? dns.beginChecks() : { check: checkWith(dns.openViews()), end: () => {} };
  let next = 0;
  const worker = async (): Promise<void> => {
    for (let name = names[next++]; name !== undefined && !isOver(); name = names[next++]) await work(name, check);
  };
  const ended = await Promise.allSettled(Array.from({ length: Math.min(AT_ONCE, names.length) }, worker));
  end();
  const failed = ended.find((one) => one.status === 'rejected');
  if (failed) throw failed.reason;
}

/** Checks every domain, some at a time, with one view of DNS between them. */
export async function checkAll(context: DnsDeps, onProgress: (done: number, total: number) => void = () => {}): Promise<CheckSummary> {
  context.dns.forget();
  const summary: CheckSummary = { checkedAt: context.clock.now(), verdicts: {}, domains: [], changes: [] };
  const names = allDomainNames(context.db);
  const total = names.length;
  let done = 0;
  await inParallel(context, names, async (name, check) => {
    const domain = findDomain(context.db, name);
    if (domain) {
      const { report, changes } = await checkOne(context, domain, check);
      // What is optional and not there is nothing to count.
      const first = leading(report.findings).filter((one) => one.subject !== 'discovery' || one.verdict !== 'good');
      for (const one of first) summary.verdicts[one.verdict] = (summary.verdicts[one.verdict] ?? 0) + 1;
      summary.changes.push(...changes);
      summary.domains.push({
        domain: name,
        role: domain.role,
        readiness: report.readiness,
        good: report.good,
        findings: first.map(({ subject, verdict, headline, code }) => ({ subject, verdict, headline, code })),
      });
    }
    done += 1;
    onProgress(done, total);
  });
  // The worst first; what got no answer says nothing.
  const rank = ({ readiness }: { readiness: number | null }): number => readiness ?? 101;
  summary.domains.sort((one, other) => rank(one) - rank(other) || (one.domain < other.domain ? -1 : 1));
  return summary;
}

/** Starts a check of every domain, unless one is under way; that one is returned then. */
export function startCheckRun(context: DnsDeps): CheckRun {
  const { clock, signals, checkRuns } = context;
  if (checkRuns.latest && checkRuns.latest.finishedAt === null) return checkRuns.latest;
  const run: CheckRun = {
    id: (checkRuns.latest?.id ?? 0) + 1,
    startedAt: clock.now(),
    total: allDomainNames(context.db).length,
    done: 0,
    finishedAt: null,
    failure: null,
    summary: null,
  };
  checkRuns.latest = run;
  checkAll(context, (done, total) => {
    Object.assign(run, { done, total });
    signals.emit('news', { kind: 'check-run', done, total });
  })
    .then((summary) => {
      run.summary = summary;
    })
    .catch((error: unknown) => {
      run.failure = 'Internal error. See the service’s log for details.';
      context.log.error({ fault: faultText(error) }, 'check of every domain failed');
    })
    .finally(() => {
      run.finishedAt = clock.now();
      signals.emit('news', { kind: 'check-run', done: run.done, total: run.total });
    });
  return run;
}

/** Checks what is due by now: domains, the host, and keys to be retired. Resolves with the number of domains that were looked at; no more are once `isOver`. */
export async function runDueChecks(context: DnsDeps, isOver: () => boolean = () => false): Promise<number> {
  const { db, clock } = context;
  await retireDueKeys(context);
  if ((findHostCheck(db, context.host)?.nextAt ?? 0) <= clock.steady()) await checkHostNow(context);
  const names = dueChecks(db, clock.steady(), MOST_A_TURN);
  let looked = 0;
  const work = async (name: string, check: Check): Promise<void> => {
    const domain = findDomain(db, name);
    looked += 1;
    try {
      if (domain) await checkOne(context, domain, check);
    } catch (error) {
      // One domain's trouble is not the others'.
      context.log.error({ domain: name, fault: faultText(error) }, 'scheduled check failed');
    }
  };
  await inParallel(context, names, work, isOver);
  return looked;
}

/** Looks again by itself, for as long as the service runs. */
export class CheckSchedule {
  private readonly loop: BackgroundLoop;

  constructor(context: DnsDeps) {
    const turn = async (): Promise<void> => {
      await runDueChecks(context, () => this.loop.isStopped);
    };
    this.loop = new BackgroundLoop({ log: context.log, failed: 'scheduled checks failed', everyMs: TICK_MS, turn });
  }

  start(): void {
    this.loop.start(TICK_MS);
  }

  /** Resolves when what is under way is written down. */
  stop(): Promise<void> {
    return this.loop.stop();
  }
}
