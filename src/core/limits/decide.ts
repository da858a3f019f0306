import type { Amounts, Limit } from './amounts.ts';
import type { Usage } from './usage.ts';

/** Whose limits are asked: what it has used, what is promised to open sessions, and what it may use. */
export interface Account {
  usage: Usage;
  reserved: Amounts;
  limits: readonly Limit[];
  whenFull: 'refuse' | 'hold';
  /**
   * What certainly fits its limits still, promises not yet taken off: room only grows by itself, and shrinks by what is charged. So as
   * long as this is enough, nothing else of the account need be looked at. Begins with nothing; `decide` measures it anew when it is short.
   */
  free: Amounts;
}

export type LimitDecision =
  | { kind: 'room' }
  /**
   * `account` is the place of the one whose limit stands in the way. `roomAt` is null when only open sessions or the limit itself
   * (below what is asked) do. `hold` when all who are full would rather keep the message than refuse it.
   */
  | { kind: 'full'; account: number; limit: Limit; used: number; roomAt: number | null; hold: boolean };

const ROOM: LimitDecision = { kind: 'room' };

/**
 * The one place where a sending limit is decided: may that much more be promised now? It must fit every limit of every account.
 * What was accepted and what open sessions were promised both count, so parallel sessions can't pass a limit together.
 */
export function decide(accounts: readonly Account[], asked: Amounts, now: number): LimitDecision {
  let full: (LimitDecision & { kind: 'full' }) | null = null;
  let hold = true;
  for (let at = 0; at < accounts.length; at += 1) {
    const account = accounts[at] as Account;
    if (fits(account, asked)) continue;
    measure(account, now);
    if (fits(account, asked)) continue;
    for (const limit of account.limits) {
      const wanted = asked[limit.quantity];
      if (wanted === 0) continue;
      const used = account.usage.used(limit.period, now)[limit.quantity];
      if (used + account.reserved[limit.quantity] + wanted <= limit.amount) continue;
      const most = limit.amount - wanted;
      const free = most < 0 ? null : account.usage.whenAtMost(limit.period, limit.quantity, most, now);
      const roomAt = free === now ? null : free;
      // What can never fit is not kept.
      if (account.whenFull === 'refuse' || most < 0) hold = false;
      // The answer names the limit that holds longest.
      if (!full || (roomAt ?? Number.POSITIVE_INFINITY) >= (full.roomAt ?? Number.POSITIVE_INFINITY))
        full = { kind: 'full', account: at, limit, used, roomAt, hold: false };
    }
  }
  return full ? { ...full, hold } : ROOM;
}

/** Something was charged to an account. */
export function charge(account: Account, at: number, amounts: Amounts): void {
  account.usage.add(at, amounts);
  account.free.messages -= amounts.messages;
  account.free.sends -= amounts.sends;
  account.free.bytes -= amounts.bytes;
}

const fits = ({ reserved, free }: Account, asked: Amounts): boolean =>
  (asked.sends === 0 || reserved.sends + asked.sends <= free.sends) &&
  (asked.messages === 0 || reserved.messages + asked.messages <= free.messages) &&
  (asked.bytes === 0 || reserved.bytes + asked.bytes <= free.bytes);

function measure({ usage, limits, free }: Account, now: number): void {
  free.messages = free.sends = free.bytes = Number.POSITIVE_INFINITY;
  for (const { period, quantity, amount } of limits) free[quantity] = Math.min(free[quantity], amount - usage.used(period, now)[quantity]);
}
