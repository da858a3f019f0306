import type { Limit } from '../core/limits/amounts.ts';
import type { Period, Quantity, ScopeKind } from '../core/vocabulary.ts';
import type { Database } from './database.ts';

/** Whose limits: the server's has the id 0. */
export interface ScopeRef {
  kind: ScopeKind;
  id: number;
}

/** Whose defaults: the plan's for its domains, or for each mailbox of them. */
type LimitOwner = ScopeKind | 'plan' | 'plan-mailbox';

/** `amount` null takes a plan's limit away. */
export type LimitValue = Omit<Limit, 'amount'> & { amount: number | null };

export interface LimitChoice {
  whenFull: 'refuse' | 'hold';
  /** Recipients that may wait at once, and hours that one may wait. */
  holdMost: number;
  holdHours: number;
}

export interface Raise {
  id: number;
  period: Period;
  quantity: Quantity;
  amount: number | null;
  until: number;
  reason: string;
  at: number;
}

export const limitsOf = (db: Database, owner: LimitOwner, id: number) =>
  db.all<LimitValue>(
    `SELECT period, quantity, amount FROM sending_limit WHERE scope = ? AND scope_id = ?
     ORDER BY instr('minute hour day month', period), quantity DESC`,
    owner,
    id,
  );

export function setLimitValue(db: Database, owner: LimitOwner, id: number, value: LimitValue): void {
  db.run(
    'INSERT INTO sending_limit (scope, scope_id, period, quantity, amount) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET amount = excluded.amount',
    owner,
    id,
    value.period,
    value.quantity,
    value.amount,
  );
}

/** Back to what the plan says. */
export const dropLimit = (db: Database, owner: LimitOwner, id: number, period: Period, quantity: Quantity) =>
  db.run('DELETE FROM sending_limit WHERE scope = ? AND scope_id = ? AND period = ? AND quantity = ?', owner, id, period, quantity);
export const dropLimits = (db: Database, owner: LimitOwner, id: number) =>
  db.run('DELETE FROM sending_limit WHERE scope = ? AND scope_id = ?', owner, id);

/** The plan by which a domain or a mailbox has its defaults. */
export function planOf(
  db: Database,
  scope: ScopeRef,
): { id: number; brakeShare: number | null; brakeLeast: number; unusual: string } | null {
  if (scope.kind !== 'domain' && scope.kind !== 'mailbox') return null;
  const found = db.one<{ id: number; brakeShare: number | null; brakeLeast: number; unusual: string }>(
    `SELECT p.id, p.brake_share AS brakeShare, p.brake_least AS brakeLeast, p.unusual FROM plan p JOIN domain d ON d.plan_id = p.id ${
      scope.kind === 'domain' ? 'WHERE d.id = ?' : 'JOIN mailbox m ON m.domain_id = d.id WHERE m.id = ?'
    }`,
    scope.id,
  );
  return found ?? null;
}

const CHOICE = 'when_full AS whenFull, hold_most AS holdMost, hold_hours AS holdHours';
export const ownChoice = (db: Database, scope: ScopeRef): LimitChoice | null =>
  db.one<LimitChoice>(`SELECT ${CHOICE} FROM limit_choice WHERE scope = ? AND scope_id = ?`, scope.kind, scope.id) ?? null;
export const planChoice = (db: Database, planId: number): LimitChoice | null =>
  db.one<LimitChoice>(`SELECT ${CHOICE} FROM plan WHERE id = ?`, planId) ?? null;
export function setChoice(db: Database, scope: ScopeRef, choice: LimitChoice | null): void {
  db.run('DELETE FROM limit_choice WHERE scope = ? AND scope_id = ?', scope.kind, scope.id);
  if (choice)
    db.run(
      'INSERT INTO limit_choice (scope, scope_id, when_full, hold_most, hold_hours) VALUES (?, ?, ?, ?, ?)',
      scope.kind,
      scope.id,
      choice.whenFull,
      choice.holdMost,
      choice.holdHours,
    );
}

export const raisesOf = (db: Database, scope: ScopeRef, now: number) =>
  db.all<Raise>(
    'SELECT id, period, quantity, amount, until, reason, at FROM limit_raise WHERE scope = ? AND scope_id = ? AND until > ? ORDER BY until',
    scope.kind,
    scope.id,
    now,
  );
export function addRaise(db: Database, scope: ScopeRef, raise: Omit<Raise, 'id'>): void {
  db.run(
    'INSERT INTO limit_raise (scope, scope_id, period, quantity, amount, until, reason, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
    scope.kind,
    scope.id,
    raise.period,
    raise.quantity,
    raise.amount,
    raise.until,
    raise.reason,
    raise.at,
  );
}
export const dropRaises = (db: Database, scope: ScopeRef) =>
  db.run('DELETE FROM limit_raise WHERE scope = ? AND scope_id = ?', scope.kind, scope.id).changes;

export interface Warning {
  scope: ScopeKind;
  scopeId: number;
  period: Period;
  quantity: Quantity;
  /** Percent of the limit. */
  level: number;
  at: number;
  used: number;
  amount: number;
}
const WARNING = 'scope, scope_id AS scopeId, period, quantity, level, at, used, amount';
export const lastWarning = (db: Database, scope: ScopeRef, limit: Limit, level: number): number | null =>
  db.one<{ at: number }>(
    'SELECT at FROM limit_warning WHERE scope = ? AND scope_id = ? AND period = ? AND quantity = ? AND level = ?',
    scope.kind,
    scope.id,
    limit.period,
    limit.quantity,
    level,
  )?.at ?? null;
export function keepWarning(db: Database, warning: Warning): void {
  db.run(
    `INSERT INTO limit_warning (scope, scope_id, period, quantity, level, at, used, amount) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT DO UPDATE SET at = excluded.at, used = excluded.used, amount = excluded.amount`,
    warning.scope,
    warning.scopeId,
    warning.period,
    warning.quantity,
    warning.level,
    warning.at,
    warning.used,
    warning.amount,
  );
}
/** Warnings of the last while, the newest first; the highest level of each limit. */
export const recentWarnings = (db: Database, since: number, limit: number) =>
  db.all<Warning>(
    `SELECT scope, scope_id AS scopeId, period, quantity, max(level) AS level, at, used, amount FROM limit_warning WHERE at > ?
     GROUP BY scope, scope_id, period, quantity ORDER BY at DESC LIMIT ?`,
    since,
    limit,
  );
export const warningsOf = (db: Database, scope: ScopeRef) =>
  db.all<Warning>(`SELECT ${WARNING} FROM limit_warning WHERE scope = ? AND scope_id = ? ORDER BY at DESC`, scope.kind, scope.id);

/** Finds what a scope's id is called; null when it is gone. */
export function scopeName(db: Database, { kind, id }: ScopeRef): string | null {
  if (kind === 'server') return 'the server';
  const sql = {
    customer: 'SELECT name FROM customer WHERE id = ?',
    domain: 'SELECT name FROM domain WHERE id = ?',
    mailbox: `SELECT m.local || '@' || d.name AS name FROM mailbox m JOIN domain d ON d.id = m.domain_id WHERE m.id = ?`,
    outlet: 'SELECT name FROM outlet WHERE id = ?',
    network: 'SELECT cidr AS name FROM network WHERE id = ?',
  }[kind];
  return db.one<{ name: string }>(sql, id)?.name ?? null;
}
