import { leading } from '../../core/checks/finding.ts';
import type { MoveFacts, MxLook, Pass, SheetsSent } from '../../core/moves/path.ts';
import type { ImapOrder } from '../../core/transfer/order.ts';
import { findCheck } from '../../store/checks.ts';
import { recipientsOf } from '../../store/journeys.ts';
import { mailboxesAmong } from '../../store/mailboxes.ts';
import { askedOfMove, listMoveSteps, type MovePlan, type MoveStepRow } from '../../store/move-plans.ts';
import { Problem } from '../base/problem.ts';
import type { MoveDeps } from './deps.ts';

/** How a domain's mail is brought here; what each account gets stands beside it. */
export interface MoveOrder extends ImapOrder {
  quietHours: number;
  /** The server that its mail was passed on to; null where it came here already. */
  mailServer: string | null;
}

export function orderOf({ db, keyFile }: MoveDeps, domainId: number): MoveOrder {
  return JSON.parse(keyFile.open(askedOfMove(db, domainId) ?? '')) as MoveOrder;
}

/** The address of each account that has no mailbox here. */
export function missingOf({ db }: MoveDeps, domainId: number, order: MoveOrder): string[] {
  const wanted = order.accounts.map(({ into }) => ({ into, local: sidesOf(into)[0] }));
  const there = mailboxesAmong(
    db,
    domainId,
    wanted.map((one) => one.local),
  );
  return wanted.flatMap(({ into, local }) => (there.has(local) ? [] : [into]));
}

export const sidesOf = (address: string): [local: string, domain: string] => {
  const at = address.lastIndexOf('@');
  return [address.slice(0, at), address.slice(at + 1)];
};

/** All that the steps of a plan are judged by, as it is known now. */
export function moveFacts(context: MoveDeps, plan: MovePlan): MoveFacts {
  const { db, clock } = context;
  const rows = listMoveSteps(db, plan.domainId);
  const order = orderOf(context, plan.domainId);
  const passes: MoveFacts['passes'] = {};
  for (const { step, transferId } of rows) {
    const pass = transferId === null ? null : passOf(context, transferId);
    if (pass) passes[step] = pass;
  }
  return {
    accounts: order.accounts.length,
    server: plan.server,
    missing: missingOf(context, plan.domainId, order),
    passes,
    mx: mxLook(context, plan),
    hereSince: plan.hereSince,
    sheets: sheetsOf(
      context,
      order,
      rows.find((one) => one.step === 'sheets'),
    ),
    skipped: new Set(rows.filter((one) => one.isSkipped).map((one) => one.step)),
    quietHours: order.quietHours,
    now: clock.now(),
  };
}

/** Null where it is so old that it was forgotten. */
function passOf({ transfers }: MoveDeps, id: number): Pass | null {
  try {
    const { state, outcome, done, total, leftOut, parts } = transfers.show(id);
    return { id, state, outcome, done, total, leftOut, faults: parts.filter((one) => one.fault !== null).length };
  } catch (error) {
    if (error instanceof Problem) return null;
    throw error;
  }
}

function mxLook({ db }: MoveDeps, plan: MovePlan): MxLook | null {
  const found =
    plan.lookedAt === null ? undefined : leading(findCheck(db, plan.domainId)?.findings ?? []).find((one) => one.subject === 'mx');
  if (!found || plan.lookedAt === null) return null;
  const { verdict, headline, expected, seen, until } = found;
  return { at: plan.lookedAt, ttl: plan.mxTtl, heldUntil: plan.heldUntil, verdict, headline, expected, seen, waitsUntil: until };
}

function sheetsOf({ db }: MoveDeps, { accounts }: MoveOrder, row: MoveStepRow | undefined): SheetsSent {
  const addresses = new Set(accounts.map((one) => one.into));
  const sent = (row?.made ?? []).filter((one) => addresses.has(one.address));
  const failed: { address: string; why: string }[] = [];
  let waiting = 0;
  const whose = new Map(sent.map(({ address, journey = '' }) => [journey, address]));
  for (const { journeyId, state, reply } of recipientsOf(db, [...whose.keys()])) {
    if (state === 'failed') failed.push({ address: whose.get(journeyId) ?? '', why: reply ?? 'it did not arrive' });
    else if (state === 'queued' || state === 'delayed') waiting += 1;
  }
  return { of: addresses.size, sent: sent.length, failed, waiting };
}
