import { type Amounts, BOUNDLESS, type Limit } from './amounts.ts';
import type { Room } from './room.ts';
import type { Usage } from './usage.ts';

/** Whose limits are asked: what it has used, what it may use, and where its figures stand. */
export interface LimitAccount {
  usage: Usage;
  room: Room;
  number: number;
  limits: readonly Limit[];
  /** Which reading of the limits this is. */
  edition: number;
  whenFull: 'refuse' | 'hold';
}

export type LimitDecision =
  | { kind: 'room' }
  /**
   * `account` is the place of the one whose limit stands in the way. `roomAt` is null when only open sessions or the limit itself
   * (below what is asked: `never`) do. `hold` when all who are full would rather keep the message than refuse it.
   */
  | { kind: 'full'; account: number; limit: Limit; used: number; roomAt: number | null; never: boolean; hold: boolean };

const ROOM: LimitDecision = { kind: 'room' };

/**
 * The one place where a sending limit is decided: may that much more be promised now? It must fit every limit of every account.
 * What was accepted and what open sessions were promised both count, so parallel sessions can't pass a limit together.
 * Who asks may ask `room.fits` of every account first, and need not come here if it says yes.
 */
export function decide(accounts: readonly LimitAccount[], asked: Amounts, now: number): LimitDecision {
  let full: (LimitDecision & { kind: 'full' }) | null = null;
  let hold = true;
  for (let at = 0; at < accounts.length; at += 1) {
    const account = accounts[at] as LimitAccount;
    measure(account, now);
    for (const limit of account.limits) {
      const stop = inTheWay(account, limit, asked, now);
      if (!stop) continue;
      // What can never fit is not kept.
      if (account.whenFull === 'refuse' || stop.never) hold = false;
      // The answer names the limit that holds longest.
      if (!full || (stop.roomAt ?? Number.POSITIVE_INFINITY) >= (full.roomAt ?? Number.POSITIVE_INFINITY))
        full = { kind: 'full', account: at, limit, ...stop, hold: false };
    }
  }
  return full ? { ...full, hold } : ROOM;
}

/** How one limit of an account stands in the way of so much more, if it does. `never` when it is below what is asked. */
export function inTheWay(
  { usage, room, number }: Pick<LimitAccount, 'usage' | 'room' | 'number'>,
  limit: Limit,
  asked: Amounts,
  now: number,
): { used: number; roomAt: number | null; never: boolean } | null {
  const wanted = asked[limit.quantity];
  if (wanted === 0) return null;
  const used = usage.used(limit.period, now)[limit.quantity];
  if (used + room.promised(number, limit.quantity) + wanted <= limit.amount) return null;
  const most = limit.amount - wanted;
  const free = most < 0 ? null : usage.whenAtMost(limit.period, limit.quantity, most, now);
  return { used, roomAt: free === now ? null : free, never: most < 0 };
}

/** Something was charged to an account. */
export function charge({ usage, room, number }: Pick<LimitAccount, 'usage' | 'room' | 'number'>, at: number, amounts: Amounts): void {
  usage.add(at, amounts);
  room.charge(number, amounts);
}

/** Writes down what is free now, so that the next questions need not look at the account. */
function measure({ usage, room, number, limits, edition }: LimitAccount, now: number): void {
  const free = { ...BOUNDLESS };
  for (const { period, quantity, amount } of limits) free[quantity] = Math.min(free[quantity], amount - usage.used(period, now)[quantity]);
  room.measured(number, free, edition);
}
