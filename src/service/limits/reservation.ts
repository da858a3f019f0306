import type { Amounts, Limit } from '../../core/limits/amounts.ts';
import type { ScopeRef } from '../../store/limits.ts';
import type { EffectiveLimit } from './effective-limits.ts';
import type { PayerIds } from './payer-ids.ts';

/** Room that a session has been promised and has not used yet. */
export interface Reservation {
  kind: 'room';
  by: PayerIds;
  amounts: Amounts;
}

/** A limit that has come to 80 or 100 percent, for the first time in its window. */
export interface Reached {
  scope: ScopeRef;
  limit: Limit;
  level: 80 | 100;
  used: number;
}

export interface LimitUse extends EffectiveLimit {
  used: number;
  /** Promised to open connections. */
  reserved: number;
  /** When one more fits again, by the wall clock; null when there is room, or no time helps. */
  roomAt: number | null;
}
