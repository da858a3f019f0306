import { decideSends, type LimitDecision, type Limits } from '../core/limits/decide.ts';
import { DAY, SendWindow } from '../core/limits/window.ts';
import type { Database } from '../store/database.ts';
import { type Charge, charge, chargesSince } from '../store/ledger.ts';
import type { Clock } from './context.ts';

/** Room that a session has been promised and has not used yet. */
export interface Reservation {
  domainId: number;
  sends: number;
}

export interface Usage {
  hour: { used: number; limit: number | null; roomAt: number | null };
  day: { used: number; limit: number | null; roomAt: number | null };
  /** Promised to open sessions. */
  reserved: number;
}

/** Keeps the sliding windows of the domains that send, in step with the ledger. The only one who reserves and charges. */
export class LimitKeeper {
  private readonly windows = new Map<number, SendWindow>();

  constructor(
    private readonly db: Database,
    private readonly clock: Clock,
  ) {}

  /** Reserves room for `sends` more when there is some; the reservation counts until it is charged or released. */
  reserve(domainId: number, limits: Limits, sends: number): { decision: LimitDecision; reservation: Reservation | null } {
    const window = this.window(domainId);
    const decision = decideSends(window, limits, sends, this.clock.steady());
    if (decision.kind === 'full') return { decision, reservation: null };
    window.reserved += sends;
    return { decision, reservation: { domainId, sends } };
  }

  release(reservation: Reservation): void {
    this.window(reservation.domainId).reserved -= reservation.sends;
  }

  /** Writes the charge; call inside the transaction that accepts, and `settle` once that is on disk. */
  charge(entry: Omit<Charge, 'at'>): number {
    const at = this.clock.steady();
    charge(this.db, { ...entry, at });
    return at;
  }

  /** The charge is durable: the reservation becomes used room. */
  settle(reservation: Reservation, at: number): void {
    const window = this.window(reservation.domainId);
    window.reserved -= reservation.sends;
    window.add(at, reservation.sends);
  }

  usage(domainId: number, limits: Limits): Usage {
    const now = this.clock.steady();
    const window = this.window(domainId);
    const used = window.used(now);
    const part = (period: 'hour' | 'day') => {
      const decision = decideSends(window, { hour: null, day: null, [period]: limits[period] }, 1, now);
      return { used: used[period], limit: limits[period], roomAt: decision.kind === 'full' ? wholeSecond(decision.roomAt) : null };
    };
    return { hour: part('hour'), day: part('day'), reserved: window.reserved };
  }

  /** The domain is gone. */
  forget(domainId: number): void {
    this.windows.delete(domainId);
  }

  /** Drops windows in which nothing counts any more. */
  tidy(): void {
    const now = this.clock.steady();
    for (const [id, window] of this.windows) if (window.reserved === 0 && window.used(now).day === 0) this.windows.delete(id);
  }

  private window(domainId: number): SendWindow {
    let window = this.windows.get(domainId);
    if (!window) {
      window = new SendWindow();
      for (const { at, sends } of chargesSince(this.db, domainId, this.clock.steady() - DAY)) window.add(at, sends);
      this.windows.set(domainId, window);
    }
    return window;
  }
}

/** Rounded up, so that whoever comes at the time that was told finds room. */
function wholeSecond(at: number): number;
function wholeSecond(at: number | null): number | null;
function wholeSecond(at: number | null): number | null {
  return at === null ? null : Math.ceil(at / 1000) * 1000;
}

/** The refusal in words, for the SMTP reply: which limit, and when there is room again. */
export function limitWords(decision: LimitDecision & { kind: 'full' }): { limit: string; room: string } {
  const limit = `${decision.limit} ${decision.limit === 1 ? 'send' : 'sends'} per ${decision.period}`;
  if (decision.roomAt === null)
    return {
      limit,
      room: decision.limit === 0 ? 'the limit must be raised first' : 'the rest is promised to open connections, try again in a minute',
    };
  return {
    limit,
    room: `there is room again at ${new Date(wholeSecond(decision.roomAt)).toISOString().slice(0, 19).replace('T', ' ')} UTC`,
  };
}
