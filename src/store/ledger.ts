import { type Amounts, NONE } from '../core/limits/amounts.ts';
import { QUANTITIES } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import type { ScopeRef } from './limits.ts';

/** Who pays for mail to the outside; names as they were then. */
export interface Payer {
  customerId: number | null;
  domainId: number | null;
  mailboxId: number | null;
  networkId: number | null;
  domain: string;
  mailbox: string | null;
  /** Sent by somebody who may, or led out again by an alias. */
  kind: 'submitted' | 'forwarded';
}

/** When something is charged, and for which message. */
export interface ChargedFor {
  at: number;
  journeyId: string;
}

const COUNTED = QUANTITIES.join(', ');
const places = (count: number): string => Array(count).fill('?').join(', ');
const CHARGE = `INSERT INTO ledger (at, customer_id, domain_id, mailbox_id, network_id, domain, mailbox, kind, journey_id, ${COUNTED})
  VALUES (${places(9 + QUANTITIES.length)})`;
const CHARGE_OUTLET = `INSERT INTO outlet_charge (at, outlet_id, journey_id, ${COUNTED}) VALUES (${places(3 + QUANTITIES.length)})`;

/** Charges an accepted message, in the transaction that accepts it; returns the entry's number. */
export function charge(db: Database, payer: Payer, amounts: Amounts, { at, journeyId }: ChargedFor): number {
  return db.run(
    CHARGE,
    at,
    payer.customerId,
    payer.domainId,
    payer.mailboxId,
    payer.networkId,
    payer.domain,
    payer.mailbox,
    payer.kind,
    journeyId,
    ...QUANTITIES.map((one) => amounts[one]),
  ).id;
}

/** Charges what an outlet's server has taken. */
export const chargeOutlet = (db: Database, outletId: number, amounts: Amounts, { at, journeyId }: ChargedFor): number =>
  db.run(CHARGE_OUTLET, at, outletId, journeyId, ...QUANTITIES.map((one) => amounts[one])).id;

/** Where a scope's charges stand, in a table that is called `l`. The column is one of ours, never text from outside. */
function chargesOf({ kind, id }: ScopeRef): { table: string; where: string; values: number[] } {
  if (kind === 'server') return { table: 'ledger', where: 'TRUE', values: [] };
  if (kind === 'outlet') return { table: 'outlet_charge', where: 'l.outlet_id = ?', values: [id] };
  return { table: 'ledger', where: `l.${kind}_id = ?`, values: [id] };
}

const SUMS = QUANTITIES.map((one) => `coalesce(sum(${one}), 0) AS ${one}`).join(', ');

type Question = [sql: string, ...values: (string | number | null)[]];

function stretchesAsked(scope: ScopeRef, grain: number, from: number, to: number): Question {
  const { table, where, values } = chargesOf(scope);
  const sql = `SELECT at / ${grain} * ${grain} AS at, ${SUMS} FROM ${table} l WHERE ${where} AND at >= ? AND at < ? GROUP BY 1 ORDER BY 1`;
  return [sql, ...values, from, to];
}
function sumAsked(scope: ScopeRef, from: number, to: number): Question {
  const { table, where, values } = chargesOf(scope);
  return [`SELECT ${SUMS} FROM ${table} l WHERE ${where} AND at >= ? AND at < ?`, ...values, from, to];
}

/** What was charged in [from, to), by stretches of `grain` ms, oldest first; at once, for who decides by it. */
export const chargesBy = (db: Database, scope: ScopeRef, grain: number, from: number, to: number) =>
  db.all<Amounts & { at: number }>(...stretchesAsked(scope, grain, from, to));
export const chargedIn = (db: Database, scope: ScopeRef, from: number, to: number): Amounts =>
  db.one<Amounts>(...sumAsked(scope, from, to)) ?? NONE;

/** The same for a ledger to be shown: the sum, and the hours. */
export async function chargesShown(db: Database, scope: ScopeRef, grain: number, from: number, to: number) {
  const [sums, stretches] = await Promise.all([
    db.allSlowly<Amounts>(...sumAsked(scope, from, to)),
    db.allSlowly<Amounts & { at: number }>(...stretchesAsked(scope, grain, from, to)),
  ]);
  return { total: sums[0] ?? NONE, stretches };
}

export const newestCharge = (db: Database): number =>
  Math.max(
    db.one<{ at: number | null }>('SELECT max(at) AS at FROM ledger')?.at ?? 0,
    db.one<{ at: number | null }>('SELECT max(at) AS at FROM outlet_charge')?.at ?? 0,
  );
export const newestChargeNumber = (db: Database, outlet: boolean): number =>
  db.one<{ seq: number | null }>(`SELECT max(seq) AS seq FROM ${outlet ? 'outlet_charge' : 'ledger'}`)?.seq ?? 0;

export interface LedgerLine extends Amounts {
  at: number;
  domain: string;
  mailbox: string | null;
  kind: Payer['kind'];
  journeyId: string;
  subject: string | null;
}

/** The charges in [from, to), newest first: a part of them, and how many there are. */
export async function listLedger(
  db: Database,
  scope: ScopeRef,
  { from, to, limit, offset }: { from: number; to: number; limit: number; offset: number },
): Promise<{ total: number; lines: LedgerLine[] }> {
  const { table, where, values } = chargesOf(scope);
  const columns = table === 'ledger' ? 'l.domain, l.mailbox, l.kind' : `'' AS domain, NULL AS mailbox, 'submitted' AS kind`;
  const found = `FROM ${table} l WHERE ${where} AND l.at >= ? AND l.at < ?`;
  const [counted, lines] = await Promise.all([
    db.allSlowly<{ total: number }>(`SELECT count(*) AS total ${found}`, ...values, from, to),
    db.allSlowly<LedgerLine>(
      `SELECT l.at, ${columns}, l.journey_id AS journeyId, l.messages, l.sends, l.bytes, j.subject
       FROM ${table} l LEFT JOIN journey j ON j.id = l.journey_id
       WHERE ${where} AND l.at >= ? AND l.at < ? ORDER BY l.at DESC, l.seq DESC LIMIT ? OFFSET ?`,
      ...values,
      from,
      to,
      limit,
      offset,
    ),
  ]);
  return { total: counted[0]?.total ?? 0, lines };
}

export interface StatementPart extends Amounts {
  domain: string;
  mailbox: string | null;
  kind: Payer['kind'];
}

/** The charges in [from, to) by who caused them. */
export function chargesByMailbox(db: Database, scope: ScopeRef, from: number, to: number): Promise<StatementPart[]> {
  const { where, values } = chargesOf(scope);
  return db.allSlowly(
    `SELECT domain, mailbox, kind, ${SUMS} FROM ledger l WHERE ${where} AND at >= ? AND at < ? GROUP BY 1, 2, 3 ORDER BY sum(sends) DESC, 1, 2`,
    ...values,
    from,
    to,
  );
}

/** Sends of one mailbox in each full hour (by UTC) of some stretches. */
export const mailboxHours = (db: Database, mailboxId: number, from: number, to: number) =>
  db.all<{ hour: number; sends: number }>(
    'SELECT at / 3600000 * 3600000 AS hour, sum(sends) AS sends FROM ledger WHERE mailbox_id = ? AND at >= ? AND at < ? GROUP BY 1',
    mailboxId,
    from,
    to,
  );
export const firstCharge = (db: Database, mailboxId: number): number | null =>
  db.one<{ at: number | null }>('SELECT min(at) AS at FROM ledger WHERE mailbox_id = ?', mailboxId)?.at ?? null;

export interface SendEnd {
  /** Whose send it was; of one from before numbers were kept, the domain that had the name then. */
  domain: { id: number | null; name: string };
  mailboxId: number | null;
  /** When its message was accepted. */
  acceptedAt: number;
  at: number;
  state: string;
}

/** Notes how a send ended. */
export function noteOutcome(db: Database, { domain, mailboxId, acceptedAt, at, state }: SendEnd): void {
  const id = domain.id ?? db.one<{ id: number }>('SELECT id FROM domain WHERE name = ? AND created_at <= ?', domain.name, acceptedAt)?.id;
  db.run(
    `INSERT INTO send_outcome (domain_id, hour, mailbox_id, state, sends) VALUES (?, ?, ?, ?, 1) ON CONFLICT DO UPDATE SET sends = sends + 1`,
    id ?? 0,
    Math.floor(at / 3_600_000) * 3_600_000,
    mailboxId ?? 0,
    state,
  );
}

/** Forgets how sends ended before a time, some at once; returns how many rows went. */
export const forgetOutcomes = (db: Database, before: number, most: number): number =>
  db.run(
    `DELETE FROM send_outcome WHERE (domain_id, hour, mailbox_id, state) IN
       (SELECT domain_id, hour, mailbox_id, state FROM send_outcome WHERE hour < ? LIMIT ?)`,
    before,
    most,
  ).changes;

export interface OutcomeHour {
  hour: number;
  state: string;
  sends: number;
}
/** From one time to another, ms. */
export interface Window {
  since: number;
  before: number;
}

/** A domain whose sends are asked for; `createdAt` tells its messages from those of another one that had the name before numbers were kept. */
type SendingDomain = { id: number; name: string; createdAt: number };

/** The failed sends of messages that were accepted in a window, by whose server refused them and with what. */
export const failedSends = (db: Database, domain: SendingDomain | null, { since, before }: Window, most: number) =>
  db.allSlowly<{ destination: string; reply: string | null; sends: number; lastAt: number }>(
    `SELECT r.domain AS destination, r.reply, count(*) AS sends, max(r.changed_at) AS lastAt FROM journey j JOIN recipient r ON r.journey_id = j.id
     WHERE j.at > ? AND j.at <= ? AND (? IS NULL OR (j.domain = ? AND coalesce(j.domain_id, iif(j.at >= ?, ?, 0)) = ?)) AND r.state = 'failed' AND r.charged = 1 GROUP BY 1, 2 ORDER BY 3 DESC LIMIT ?`,
    since,
    before,
    domain?.name ?? null,
    domain?.name ?? null,
    domain?.createdAt ?? null,
    domain?.id ?? null,
    domain?.id ?? null,
    most,
  );

/** How sends of a domain, or of all, ended, hour by hour. */
export const outcomesByHour = (db: Database, domainId: number | null, { since, before }: Window) =>
  domainId === null
    ? db.allSlowly<OutcomeHour>(
        'SELECT hour, state, sum(sends) AS sends FROM send_outcome WHERE hour >= ? AND hour <= ? GROUP BY 1, 2 ORDER BY 1',
        since,
        before,
      )
    : db.allSlowly<OutcomeHour>(
        'SELECT hour, state, sum(sends) AS sends FROM send_outcome WHERE domain_id = ? AND hour >= ? AND hour <= ? GROUP BY 1, 2 ORDER BY 1',
        domainId,
        since,
        before,
      );

/**
 * Forgets charges of before a time, the oldest `most` at once; tells how many. The newest charge stays whatever its age: its number and time are
 * where the ledger goes on.
 */
export function forgetCharges(db: Database, before: number, most: number): number {
  let gone = 0;
  for (const table of ['ledger', 'outlet_charge'])
    gone += db.run(
      `DELETE FROM ${table} WHERE seq IN (SELECT seq FROM (SELECT seq, at FROM ${table} ORDER BY seq LIMIT ?) WHERE at < ?)
       AND seq < (SELECT max(seq) FROM ${table})`,
      most,
      before,
    ).changes;
  return gone;
}
