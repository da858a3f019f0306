import { isBehind } from '../../core/moves/path.ts';
import { allMovePlans, findMovePlan, type MovePlan } from '../../store/move-plans.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { faultText, Problem } from '../base/problem.ts';
import { carry } from './acts.ts';
import type { MoveDeps } from './deps.ts';
import { orderOf } from './facts.ts';
import { checkMove, noteStanding, pathOf } from './plans.ts';

const TICK_MS = 30_000;
/** So often DNS is asked about a domain whose records are waited for. */
const LOOK_EVERY_MS = 5 * 60_000;
/** A last pass that could not be begun is tried again after so long. */
const AGAIN_MS = 15 * 60_000;

/** Follows open move plans: sees when MX records change, lets mail stay here from then on, and begins the last pass. */
export class MoveWatch {
  private readonly loop: BackgroundLoop;
  /** When a last pass was begun by itself last, by domain. */
  private readonly tried = new Map<number, number>();

  constructor(private readonly context: MoveDeps) {
    this.loop = new BackgroundLoop({
      log: context.log,
      failed: 'move plans could not be checked',
      everyMs: TICK_MS,
      turn: () => this.turn(),
    });
  }

  start(): void {
    this.loop.start();
  }

  stop(): Promise<void> {
    return this.loop.stop();
  }

  /** One turn over all open plans. */
  async turn(): Promise<void> {
    for (const plan of allMovePlans(this.context.db)) {
      if (this.loop.isStopped) return;
      try {
        await this.follow(plan);
      } catch (error) {
        // It may have been ended, or its domain removed, meanwhile; and what is wrong with one is no reason to leave the others.
        if (error instanceof Problem)
          this.context.log.info({ domain: plan.domain, reason: error.message }, 'a move plan could not be checked now');
        else this.context.log.error({ domain: plan.domain, fault: faultText(error) }, 'a move plan could not be checked');
      }
    }
  }

  private async follow(plan: MovePlan): Promise<void> {
    const { context } = this;
    const waitsForDns = (): boolean =>
      pathOf(context, plan).some((one) => (one.step === 'mx' || one.step === 'short-ttl') && !isBehind(one));
    if (waitsForDns() && context.clock.now() - (plan.lookedAt ?? 0) >= LOOK_EVERY_MS) await checkMove(context, plan.domain);
    await this.lastPass(plan);
    await noteStanding(context, plan.domainId);
  }

  /** Nobody has to be there for it: it begins when the records lead here everywhere. */
  private async lastPass(plan: MovePlan): Promise<void> {
    const { context } = this;
    const now = findMovePlan(context.db, plan.domainId);
    if (!now || now.hereSince === null) return;
    const path = pathOf(context, now);
    const mx = path.find((one) => one.step === 'mx');
    const last = path.find((one) => one.step === 'last-pass');
    if (!mx || !isBehind(mx) || !last) return;
    if (last.state !== 'next') return;
    const steady = context.clock.steady();
    if (steady - (this.tried.get(now.domainId) ?? Number.NEGATIVE_INFINITY) < AGAIN_MS) return;
    this.tried.set(now.domainId, steady);
    await carry(context, now, 'last-pass', orderOf(context, now.domainId));
  }
}
