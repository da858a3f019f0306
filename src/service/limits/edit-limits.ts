import { scopeKey } from '../../core/limits/scope-key.ts';
import type { Period, Quantity, ScopeKind, StopKind } from '../../core/vocabulary.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import type { ScopeRef } from '../../store/limits.ts';
import * as store from '../../store/limits.ts';
import { badInput } from '../base/problem.ts';
import { type NamedScope, requireScope, scopeText } from '../directory/scopes.ts';
import type { LimitsDeps } from './deps.ts';
import { outletsChanged } from './outlets-changed.ts';
import type { LimitUse } from './reservation.ts';

export interface LimitsView {
  scope: string;
  kind: ScopeKind;
  name: string;
  limits: LimitUse[];
  whenFull: 'refuse' | 'hold';
  holdMost: number;
  holdHours: number;
  /** Whether that is the plan's, or this scope's own. */
  choiceFrom: 'plan' | 'own';
  /** Recipients that wait for room. */
  waiting: number;
  /** What keeps it from sending whatever its limits say: its own pause or brake, or that of its domain or customer. */
  stop: { kind: StopKind; scope: string } | null;
  warnings: { period: Period; quantity: Quantity; level: number; at: number }[];
}

export function showLimits(context: LimitsDeps, text: string): LimitsView {
  const { db, limits } = context;
  const scope = requireScope(context, text);
  const { choice, from } = limits.choice(scope);
  return {
    scope: scopeText(scope.kind, scope.name),
    kind: scope.kind,
    name: scope.name,
    limits: limits.uses(scope),
    ...choice,
    choiceFrom: from,
    waiting: context.holds.count(scopeKey(scope)),
    stop: stopOf(context, scope),
    warnings: store.warningsOf(db, scope).map(({ period, quantity, level, at }) => ({ period, quantity, level, at })),
  };
}

function stopOf({ db, stops }: LimitsDeps, scope: NamedScope): LimitsView['stop'] {
  const domain = scope.domain === null ? null : findDomainFacts(db, scope.domain);
  const above: ScopeRef[] = [
    scope,
    ...(domain ? [{ kind: 'domain' as const, id: domain.id }] : []),
    ...(domain && domain.customerId !== null ? [{ kind: 'customer' as const, id: domain.customerId }] : []),
  ];
  const found = stops.find(above, 'sending');
  if (!found) return null;
  const { kind, scope: of, scopeId } = found;
  return { kind, scope: scopeText(of, store.scopeName(db, { kind: of, id: scopeId }) ?? scope.name) };
}

export interface LimitChange {
  period: Period;
  quantity: Quantity;
  /** null: no limit; `plan`: what the plan says. */
  amount: number | null | 'plan';
}

export interface LimitsChange {
  limits: readonly LimitChange[];
  whenFull?: 'refuse' | 'hold' | 'plan' | undefined;
  holdMost?: number | undefined;
  holdHours?: number | undefined;
}

/** Sets limits of a scope; they count from the next recipient on. */
export async function setLimits(context: LimitsDeps, text: string, change: LimitsChange): Promise<LimitsView> {
  const { db, clock, limits } = context;
  await db.commit(() => {
    const scope = requireScope(context, text);
    const before = limits.effective(scope);
    for (const { period, quantity, amount } of change.limits) {
      if (amount === 'plan') store.dropLimit(db, scope.kind, scope.id, period, quantity);
      else store.setLimitValue(db, scope.kind, scope.id, { period, quantity, amount });
    }
    if (change.whenFull === 'plan') store.setChoice(db, scope, null);
    else if (change.whenFull !== undefined || change.holdMost !== undefined || change.holdHours !== undefined) {
      if (scope.kind === 'outlet')
        throw badInput(
          'whenFull',
          'The outlet itself sets what happens when its limit is used up.',
          'Use: tenedor outlet set NAME --when-spent next',
        );
      const { choice } = limits.choice(scope);
      store.setChoice(db, scope, {
        whenFull: change.whenFull ?? choice.whenFull,
        holdMost: change.holdMost ?? choice.holdMost,
        holdHours: change.holdHours ?? choice.holdHours,
      });
    }
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: scope.domain,
      event: 'limit-set',
      data: {
        scope: scopeText(scope.kind, scope.name),
        limits: change.limits,
        whenFull: change.whenFull ?? null,
        before: before.map(({ period, quantity, amount }) => ({ period, quantity, amount })),
      },
    });
  });
  const scope = requireScope(context, text);
  limits.review(scope);
  await thereMayBeRoom(context, scope);
  return showLimits(context, text);
}

/** Whoever waits for room under a limit is looked at again. */
async function thereMayBeRoom(context: LimitsDeps, scope: ScopeRef): Promise<void> {
  if (scope.kind === 'outlet') await outletsChanged(context);
  else context.signals.emit('room');
}

const LONGEST_RAISE_MS = 366 * 24 * 3_600_000;

/** Raises a limit for a while, for a reason that the journal keeps. */
export async function raiseLimit(
  context: LimitsDeps,
  text: string,
  raise: { period: Period; quantity: Quantity; amount: number | null; until: number; reason: string },
): Promise<LimitsView> {
  const { db, clock, limits } = context;
  const now = clock.now();
  if (raise.until <= now) throw badInput('until', 'The raise would end in the past.', 'Give a later time.');
  if (raise.until > now + LONGEST_RAISE_MS)
    throw badInput('until', 'A raise lasts at most a year.', 'Set the limit itself instead: tenedor limit set');
  if (raise.reason.trim() === '') throw badInput('reason', 'No reason was given.', 'Give a short reason; it is recorded in the journal.');
  await db.commit(() => {
    const scope = requireScope(context, text);
    const current = limits.effective(scope).find((one) => one.period === raise.period && one.quantity === raise.quantity);
    if (!current || current.amount === null)
      throw badInput(
        'period',
        `${scope.name} has no limit of ${raise.quantity} per ${raise.period.replace('-', ' ')}.`,
        `List its limits: tenedor limit show ${text}`,
      );
    if (raise.amount !== null && raise.amount <= current.amount)
      throw badInput('amount', `The limit is already ${current.amount}.`, 'Give a higher one. To lower it: tenedor limit set');
    store.addRaise(db, scope, { ...raise, reason: raise.reason.trim(), at: now });
    addEntry(db, {
      at: now,
      journeyId: null,
      domain: scope.domain,
      event: 'limit-raised',
      data: { ...raise, scope: scopeText(scope.kind, scope.name), before: current.amount },
    });
  });
  await thereMayBeRoom(context, requireScope(context, text));
  return showLimits(context, text);
}

/** Ends the raises of a scope now. */
export async function endRaises(context: LimitsDeps, text: string): Promise<LimitsView> {
  const { db, clock } = context;
  await db.commit(() => {
    const scope = requireScope(context, text);
    const ended = store.dropRaises(db, scope);
    if (ended > 0)
      addEntry(db, {
        at: clock.now(),
        journeyId: null,
        domain: scope.domain,
        event: 'limit-raise-ended',
        data: { scope: scopeText(scope.kind, scope.name) },
      });
  });
  return showLimits(context, text);
}
