import { LEAST_UNUSUAL, usualRate } from '../../core/limits/usual.ts';
import { addEntry } from '../../store/journeys.ts';
import { firstCharge, mailboxHours, type Payer } from '../../store/ledger.ts';
import { planOf } from '../../store/limits.ts';
import type { RowChange } from '../../store/row-changes.ts';
import { flagUnusual } from '../../store/stops.ts';
import { NOTICES, STOPPED } from '../../texts/en/notices.ts';
import { setStopFor } from './set-stops.ts';
import type { StoppingDeps } from './set-stops-deps.ts';

const HOUR = 3_600_000;
const WEEK = 168 * HOUR;
const WEEKS = 6;
/** A mailbox has habits after two weeks. */
const LEAST_AGE = 2 * WEEK;

/**
 * Compares what mailboxes send in this hour with what they usually send at this hour of the week: the same hour and its neighbours
 * in the last six weeks, as far as the mailbox was in use.
 */
export class UnusualWatch {
  /** What is usual in the current hour, so that it is worked out once an hour and mailbox. */
  private readonly usual = new Map<number, { hour: number; threshold: number; median: number } | { hour: number; threshold: null }>();
  private readonly sent = new Map<number, { hour: number; sends: number; told: boolean }>();

  constructor(private readonly context: StoppingDeps) {}

  /** Some sends of a payer were accepted. */
  async note(payer: Payer, sends: number): Promise<void> {
    const { clock, db } = this.context;
    const { mailboxId, mailbox, domain } = payer;
    if (mailboxId === null || mailbox === null) return;
    const now = clock.steady();
    const hour = Math.floor(now / HOUR) * HOUR;
    let count = this.sent.get(mailboxId);
    if (count?.hour !== hour) {
      const already = mailboxHours(db, mailboxId, hour, hour + HOUR)[0]?.sends ?? sends;
      count = { hour, sends: already, told: false };
      this.sent.set(mailboxId, count);
    } else count.sends += sends;
    if (count.told || count.sends <= LEAST_UNUSUAL) return;
    const plan = planOf(db, { kind: 'mailbox', id: mailboxId });
    if (!plan || plan.unusual === 'off') return;
    const usual = this.usualAt(mailboxId, hour);
    if (usual.threshold === null || count.sends <= usual.threshold) return;
    count.told = true;
    await this.flag(
      { mailboxId, mailbox, domain, sends: count.sends, usual: Math.round(usual.median), threshold: Math.round(usual.threshold) },
      plan.unusual === 'stop',
    );
  }

  follow(changes: readonly RowChange[]): void {
    for (const { kind, id, what } of changes)
      if (kind === 'mailbox' && what === 'gone') for (const kept of [this.usual, this.sent]) kept.delete(id);
  }

  tidy(): void {
    const hour = Math.floor(this.context.clock.steady() / HOUR) * HOUR;
    for (const kept of [this.usual, this.sent]) for (const [id, one] of kept) if (one.hour !== hour) kept.delete(id);
  }

  private usualAt(mailboxId: number, hour: number) {
    const kept = this.usual.get(mailboxId);
    if (kept?.hour === hour) return kept;
    const { db } = this.context;
    const first = firstCharge(db, mailboxId);
    const samples: number[] = [];
    for (let week = 1; first !== null && hour - first >= LEAST_AGE && week <= WEEKS; week += 1) {
      const begin = hour - week * WEEK - HOUR;
      if (begin < first - HOUR) break;
      const found = new Map(mailboxHours(db, mailboxId, begin, begin + 3 * HOUR).map((one) => [one.hour, one.sends]));
      for (let at = begin; at < begin + 3 * HOUR; at += HOUR) samples.push(found.get(at) ?? 0);
    }
    const rate = usualRate(samples);
    const known = rate ? { hour, ...rate } : { hour, threshold: null };
    this.usual.set(mailboxId, known);
    return known;
  }

  private async flag(
    found: { mailboxId: number; mailbox: string; domain: string; sends: number; usual: number; threshold: number },
    isStopped: boolean,
  ): Promise<void> {
    const { context } = this;
    const { db, clock } = context;
    const { mailboxId, mailbox, domain, sends, usual, threshold } = found;
    const figures = { sends, usual, threshold };
    await db.commit(() => {
      flagUnusual(db, { mailboxId, at: clock.now(), ...figures });
      addEntry(db, {
        at: clock.now(),
        journeyId: null,
        domain,
        event: 'unusual-sending',
        data: { scope: mailbox, ...figures, stopped: isStopped },
      });
    });
    const scope = { kind: 'mailbox' as const, id: mailboxId, name: mailbox, domain };
    if (isStopped) {
      const text = STOPPED.unusual(mailbox);
      await setStopFor(context, scope, 'unusual', { sending: true, receiving: false, text, figures });
    }
    context.notices.tell(
      'unusual-sending',
      scope,
      { scope: mailbox, ...figures, stopped: isStopped },
      NOTICES.unusualSending(mailbox, sends, usual, isStopped),
    );
  }
}
