import { harmlessCell } from '../../core/csv-cell.ts';
import { type FailureReason, groupFailures } from '../../core/journal/reasons.ts';
import { type Amounts, addTo, NONE } from '../../core/limits/amounts.ts';
import { dayName, dayOf, dayStart } from '../../core/limits/calendar.ts';
import { QUANTITIES } from '../../core/vocabulary.ts';
import * as store from '../../store/ledger.ts';
import { topSenders } from '../../store/overview.ts';
import { badInput } from '../base/problem.ts';
import { requireDomain } from '../directory/domains.ts';
import { requireScopeOfLedger, scopeText } from '../directory/scopes.ts';
import type { LimitsDeps } from './deps.ts';
import type { LimitUse } from './reservation.ts';

/** So many different replies of other servers are looked at. */
const MOST_REPLIES = 20_000;
const HOUR = 3_600_000;

export interface LedgerView {
  scope: string;
  name: string;
  limits: LimitUse[];
  since: number;
  total: Amounts;
  hours: (Amounts & { hour: number })[];
  lines: store.LedgerLine[];
  /** How many lines there are in all. */
  lineCount: number;
}

/** Which part of what was found is asked for. */
export interface Part {
  limit: number;
  offset: number;
}
const FIRST: Part = { limit: 20, offset: 0 };

/** What was charged to a scope since then, newest first. */
export async function ledger(context: LimitsDeps, text: string, since: number, part = FIRST): Promise<LedgerView> {
  const { db, limits } = context;
  const scope = requireScopeOfLedger(context, text);
  const end = Number.MAX_SAFE_INTEGER;
  const [{ total, stretches }, { total: lineCount, lines }] = await Promise.all([
    store.chargesShown(db, scope, HOUR, since, end),
    store.listLedger(db, scope, { from: since, to: end, ...part }),
  ]);
  return {
    scope: scopeText(scope.kind, scope.name),
    name: scope.name,
    limits: limits.uses(scope),
    since,
    total,
    hours: stretches.map(({ at, ...amounts }) => ({ hour: at, ...amounts })),
    lines,
    lineCount,
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
  context: LimitsDeps,
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
    if (start === null) throw badInput(field, `“${value.slice(0, 40)}” is not a day.`, 'Write it like 2026-11-01.');
    return start;
  };
  const to = day(toText ?? today, 'to');
  const from = day(fromText ?? `${(toText ?? today).slice(0, 8)}01`, 'from');
  if (from > to) throw badInput('from', 'The first day is after the last.', 'Swap them.');
  const end = dayOf(to, zone).end;
  const days: Statement['days'] = [];
  const parts = new Map<string, store.StatementPart>();
  for (let start = from; start < end; ) {
    if (days.length >= LONGEST_DAYS) throw badInput('from', `A statement covers at most ${LONGEST_DAYS} days.`, 'Give a later first day.');
    const next = dayOf(start, zone).end;
    const ofDay = { ...NONE };
    for (const part of await store.chargesByMailbox(db, scope, start, next)) {
      addTo(ofDay, part);
      const key = `${part.domain} ${part.mailbox ?? ''} ${part.kind}`;
      const known = parts.get(key);
      if (known) addTo(known, part);
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
    const total = { ...NONE };
    for (const one of list) addTo(total, one);
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

/** A statement as a table for spreadsheets (RFC 4180): its days, its mailboxes, and the total. */
export function statementCsv(one: Statement): string {
  return csv([
    ['by', 'name', 'kind', ...QUANTITIES],
    ...one.days.map((day) => ['day', day.day, '', day.messages, day.sends, day.bytes]),
    ...one.parts.map((by) => ['mailbox', by.mailbox ?? by.domain, by.kind, by.messages, by.sends, by.bytes]),
    ['total', one.name, '', one.total.messages, one.total.sends, one.total.bytes],
  ]);
}

function csv(rows: (string | number)[][]): string {
  const cell = (value: string | number): string => {
    const text = String(harmlessCell(value));
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  return rows.map((row) => `${row.map(cell).join(',')}\r\n`).join('');
}

export interface SendingView {
  since: number;
  top: ({ domain: string; mailbox: string | null } & Amounts)[];
  /** How many have sent in all. */
  senders: number;
  outcomes: store.OutcomeHour[];
}

/** Who sends most, and how sends end; of all domains or of one. */
export async function sending(context: LimitsDeps, domain: string | null, asked: AskedWindow, part = FIRST): Promise<SendingView> {
  const { db } = context;
  const window = windowOf(context, asked);
  const domainId = domain === null ? null : requireDomain(context, domain).id;
  const [top, outcomes] = await Promise.all([
    topSenders(db, domainId, window, part),
    store.outcomesByHour(db, domainId, { ...window, since: Math.floor(window.since / HOUR) * HOUR }),
  ]);
  return { since: window.since, top: top.map(({ senders: _all, ...one }) => one), senders: top[0]?.senders ?? 0, outcomes };
}

export interface FailuresView {
  reasons: FailureReason[];
  /** How many reasons there are in all. */
  total: number;
  /** Whether every reply was looked at. */
  whole: boolean;
}

/** Why sends failed, by what the other servers said. */
export async function sendingFailures(
  context: LimitsDeps,
  domain: string | null,
  asked: AskedWindow,
  { limit, offset } = FIRST,
): Promise<FailuresView> {
  const failed = await store.failedSends(
    context.db,
    domain === null ? null : requireDomain(context, domain),
    windowOf(context, asked),
    MOST_REPLIES,
  );
  const reasons = groupFailures(failed);
  return { reasons: reasons.slice(offset, offset + limit), total: reasons.length, whole: failed.length < MOST_REPLIES };
}

/** From a time, or so many days back. */
export interface AskedWindow {
  days: number;
  since?: number | undefined;
  before?: number | undefined;
}

function windowOf({ clock }: LimitsDeps, { days, since, before }: AskedWindow): store.Window {
  // Charges are dated by the steady clock, which may be ahead.
  const end = before ?? Math.max(clock.now(), clock.steady());
  const window = { since: since ?? end - days * 24 * HOUR, before: end };
  if (window.since >= end) throw badInput('since', 'The period ends before it begins.', 'Swap the two times.');
  return window;
}
