import { PERIODS, type Period, type Quantity } from '../../core/vocabulary.ts';
import type { Database } from '../../store/database.ts';
import { type LimitChoice, limitsOf, ownChoice, planChoice, planOf, type Raise, raisesOf, type ScopeRef } from '../../store/limits.ts';

/** A limit as it counts now, and where it comes from. */
export interface EffectiveLimit {
  period: Period;
  quantity: Quantity;
  amount: number | null;
  from: 'plan' | 'own' | 'raised';
  planAmount: number | null;
  raise: Raise | null;
}

export const DEFAULT_CHOICE: LimitChoice = { whenFull: 'refuse', holdMost: 500, holdHours: 24 };

/** Each limit that the plan, the scope itself or a raise names; `now` by the wall clock, in ms. */
export function effectiveLimits(db: Database, scope: ScopeRef, now: number): EffectiveLimit[] {
  const plan = planOf(db, scope);
  const found = new Map<string, EffectiveLimit>();
  const nameOf = (one: { period: Period; quantity: Quantity }): string => `${one.period} ${one.quantity}`;
  for (const one of plan ? limitsOf(db, scope.kind === 'domain' ? 'plan' : 'plan-mailbox', plan.id) : [])
    found.set(nameOf(one), { ...one, from: 'plan', planAmount: one.amount, raise: null });
  for (const one of limitsOf(db, scope.kind, scope.id))
    found.set(nameOf(one), { ...one, from: 'own', planAmount: found.get(nameOf(one))?.amount ?? null, raise: null });
  for (const raise of raisesOf(db, scope, now)) {
    const before = found.get(nameOf(raise));
    // A raise never lowers a limit.
    if (!before || before.amount === null || (raise.amount !== null && raise.amount <= before.amount)) continue;
    found.set(nameOf(raise), { ...before, amount: raise.amount, from: 'raised', raise });
  }
  return [...found.values()].sort((one, other) => PERIODS.indexOf(one.period) - PERIODS.indexOf(other.period));
}

/** What is done when one of a scope’s limits is full, and who says so. */
export function choiceOf(db: Database, scope: ScopeRef): { choice: LimitChoice; from: 'plan' | 'own' } {
  const own = ownChoice(db, scope);
  if (own) return { choice: own, from: 'own' };
  const plan = planOf(db, scope);
  return { choice: (plan && planChoice(db, plan.id)) || DEFAULT_CHOICE, from: 'plan' };
}
