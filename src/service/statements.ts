import type { Amounts } from '../core/limits/amounts.ts';
import { dayName, dayOf, dayStart } from '../core/limits/calendar.ts';
import * as store from '../store/ledger.ts';
import { topSenders } from '../store/overview.ts';
import type { ServiceContext } from './context.ts';
import type { LimitUse } from './limits.ts';
import { badInput } from './problem.ts';
import { requireScope, requireScopeOfLedger, scopeText } from './scopes.ts';

const MOST_LINES = 1000;
const HOUR = 3_600_000;

export interface LedgerView {
  scope: string;
  name: string;
  limits: LimitUse[];
  since: number;
  total: Amounts;
  hours: (Amounts & { hour: number })[];
  lines: store.LedgerLine[];
}

/** What was charged to a scope since then, newest first. */
export async function ledger(context: ServiceContext, text: string, since: number): Promise<LedgerView> {
  const { db, limits } = context;
  const scope = requireScopeOfLedger(context, text);
  const end = Number.MAX_SAFE_INTEGER;
  const [{ total, stretches }, lines] = await Promise.all([
    store.chargesShown(db, scope, HOUR, since, end),
    store.listLedger(db, scope, since, end, MOST_LINES),
  ]);
  return {
    scope: scopeText(scope.kind, scope.name),
    name: scope.name,
    limits: limits.uses(scope),
    since,
    total,
    hours: stretches.map(({ at, ...amounts }) => ({ hour: at, ...amounts })),
    lines,
  };
}

export interface Statement {
  scope: string;
  name: string;
  /** When it was removed; null for what is here. */
  removedAt: number | null;
  /** First and last day, as `2026-11-01`, in the time zone. */
  from: string;
  to: string;
  zone: string;
  total: Amounts;
  /** What of that was led out again by aliases. */
  forwarded: Amounts;
  days: (Amounts & { day: string })[];
  parts: store.StatementPart[];
}

const LONGEST_DAYS = 400;

/** A scope's statement for whole days of the provider's time zone; its totals are those of the ledger, to the unit. */
export async function statement(
  context: ServiceContext,
  text: string,
  fromText: string | undefined,
  toText: string | undefined,
): Promise<Statement> {
  const { db, limits, clock } = context;
  const { zone } = limits;
  const scope = requireScopeOfLedger(context, text);
  if (scope.kind === 'outlet')
    throw badInput('scope', 'An outlet has a ledger, but no statement.', `Use: tenedor ledger outlet:${scope.name}`);
  const today = dayName(clock.now(), zone);
  const day = (value: string, field: string): number => {
    const start = dayStart(value, zone);
    if (start === null) throw badInput(field, `“${value.slice(0, 40)}” is no day.`, 'Write it like 2026-11-01.');
    return start;
  };
  const to = day(toText ?? today, 'to');
  const from = day(fromText ?? `${(toText ?? today).slice(0, 8)}01`, 'from');
  if (from > to) throw badInput('from', 'The first day is after the last.', 'Swap them.');
  const end = dayOf(to, zone).end;
  const days: Statement['days'] = [];
  const parts = new Map<string, store.StatementPart>();
  for (let start = from; start < end; ) {
    if (days.length >= LONGEST_DAYS) throw badInput('from', `A statement covers at most ${LONGEST_DAYS} days.`, 'Name a later first day.');
    const next = dayOf(start, zone).end;
    const ofDay = { messages: 0, sends: 0, bytes: 0 };
    for (const part of await store.chargesByMailbox(db, scope, start, next)) {
      add(ofDay, part);
      const key = `${part.domain} ${part.mailbox ?? ''} ${part.kind}`;
      const known = parts.get(key);
      if (known) add(known, part);
      else parts.set(key, { ...part });
    }
    days.push({ day: dayName(start, zone), ...ofDay });
    start = next;
  }
  const sorted = [...parts.values()].sort(
    (one, other) =>
      other.sends - one.sends || one.domain.localeCompare(other.domain) || (one.mailbox ?? '').localeCompare(other.mailbox ?? ''),
  );
  const sumOf = (list: readonly Amounts[]): Amounts => {
    const total = { messages: 0, sends: 0, bytes: 0 };
    for (const one of list) add(total, one);
    return total;
  };
  return {
    scope: scopeText(scope.kind, scope.name),
    name: scope.name,
    removedAt: scope.removedAt ?? null,
    from: dayName(from, zone),
    to: dayName(to, zone),
    zone,
    total: sumOf(days),
    forwarded: sumOf(sorted.filter((one) => one.kind === 'forwarded')),
    days,
    parts: sorted,
  };
}

function add<Sum extends Amounts>(sum: Sum, one: Amounts): Sum {
  sum.messages += one.messages;
  sum.sends += one.sends;
  sum.bytes += one.bytes;
  return sum;
}

/** A statement as a table for spreadsheets (RFC 4180): its days, its mailboxes, and the total. */
export function statementCsv(one: Statement): string {
  return csv([
    ['by', 'name', 'kind', 'messages', 'sends', 'bytes'],
    ...one.days.map((day) => ['day', day.day, '', day.messages, day.sends, day.bytes]),
    ...one.parts.map((by) => ['mailbox', by.mailbox ?? by.domain, by.kind, by.messages, by.sends, by.bytes]),
    ['total', one.name, '', one.total.messages, one.total.sends, one.total.bytes],
  ]);
}

/** A cell that a spreadsheet would take for a formula begins with an apostrophe. */
function csv(rows: (string | number)[][]): string {
  const cell = (value: string | number): string => {
    const text = typeof value === 'string' && /^[=+\-@\t\r]/.test(value) ? `'${value}` : String(value);
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  return rows.map((row) => `${row.map(cell).join(',')}\r\n`).join('');
}

export interface SendingView {
  since: number;
  top: { domain: string; mailbox: string | null; messages: number; sends: number; bytes: number }[];
  outcomes: store.OutcomeHour[];
}

/** Who sends most, and how sends end; of all domains or of one. */
export async function sending(context: ServiceContext, domain: string | null, days: number): Promise<SendingView> {
  const { db, clock } = context;
  const since = clock.now() - days * 24 * HOUR;
  const name = domain === null ? null : requireScope(context, domain).name;
  const [top, outcomes] = await Promise.all([
    topSenders(db, name, since, 20),
    store.outcomesByHour(db, name, Math.floor(since / HOUR) * HOUR),
  ]);
  return { since, top, outcomes };
}
