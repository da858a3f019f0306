import { scopeKey } from '../../core/limits/scope-key.ts';
import { brakeDue } from '../../core/limits/usual.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { planOf, type ScopeRef } from '../../store/limits.ts';
import { lookUpMailbox } from '../../store/mailboxes.ts';
import type { RowChange } from '../../store/row-changes.ts';
import { NOTICES, STOPPED } from '../../texts/en/notices.ts';
import { scopeText } from '../directory/scopes.ts';
import { type StoppableScope, setStopFor } from './set-stops.ts';
import type { StoppingDeps } from './set-stops-deps.ts';

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;

/** How sends ended within one minute. */
interface Ended {
  at: number;
  failed: number;
  ended: number;
}

/** Counts how sends end within the last hour, and sets the brake where too many fail. */
export class Brakes {
  private readonly ended = new Map<string, Ended[]>();

  constructor(private readonly contextOf: () => StoppingDeps) {}

  /** Some sends of a domain's mailbox have come to their end. */
  async note({
    domain,
    mailbox,
    failed,
    ended,
  }: {
    domain: string | null;
    mailbox: string | null;
    failed: number;
    ended: number;
  }): Promise<void> {
    const context = this.contextOf();
    const { db } = context;
    const found = domain === null ? undefined : findDomainFacts(db, domain);
    if (!found || domain === null) return;
    const at = mailbox === null ? -1 : mailbox.lastIndexOf('@');
    const box = mailbox === null ? undefined : lookUpMailbox(db, mailbox.slice(0, at), mailbox.slice(at + 1));
    const scopes: StoppableScope[] = [
      ...(box && mailbox !== null ? [{ kind: 'mailbox' as const, id: box.id, name: mailbox, domain }] : []),
      { kind: 'domain', id: found.id, name: domain, domain },
    ];
    for (const scope of scopes) {
      const total = this.count(scope, { at: context.clock.steady(), failed, ended });
      // Good news never sets a brake.
      if (failed === 0) continue;
      const plan = planOf(db, scope);
      if (!plan || plan.brakeShare === null || !brakeDue(total.failed, total.ended, { share: plan.brakeShare, least: plan.brakeLeast }))
        continue;
      if (context.stops.find(scopes, 'sending')) return;
      const text = STOPPED.brake(scope.name, total.failed, total.ended);
      for (const one of scopes) this.beginAnew(one);
      await setStopFor(context, scope, 'brake', { sending: true, receiving: false, text, figures: { ...total, share: plan.brakeShare } });
      context.notices.tell(
        'brake-set',
        scope,
        { scope: scopeText(scope.kind, scope.name), ...total },
        NOTICES.brakeSet(scope.name, total.failed, total.ended),
      );
      return;
    }
  }

  /** Counting begins anew. */
  beginAnew(scope: ScopeRef): void {
    this.ended.delete(scopeKey(scope));
  }

  follow(changes: readonly RowChange[]): void {
    for (const { kind, id, what } of changes) if (what === 'gone') this.ended.delete(scopeKey({ kind, id }));
  }

  private count(scope: ScopeRef, one: Ended): { failed: number; ended: number } {
    const key = scopeKey(scope);
    const recent = this.ended.get(key) ?? [];
    const last = recent.at(-1);
    if (last && one.at - last.at < MINUTE) {
      last.failed += one.failed;
      last.ended += one.ended;
    } else recent.push({ ...one });
    while ((recent[0]?.at ?? one.at) <= one.at - HOUR) recent.shift();
    this.ended.set(key, recent);
    return {
      failed: recent.reduce((total, { failed }) => total + failed, 0),
      ended: recent.reduce((total, { ended }) => total + ended, 0),
    };
  }
}
