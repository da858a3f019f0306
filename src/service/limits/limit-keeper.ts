import { type Amounts, addTo, type Limit, NONE } from '../../core/limits/amounts.ts';
import { charge, decide, inTheWay, type LimitAccount } from '../../core/limits/decide.ts';
import { windowStart } from '../../core/limits/periods.ts';
import { Room } from '../../core/limits/room.ts';
import { Usage } from '../../core/limits/usage.ts';
import { type Period, SCOPE_KINDS, type ScopeKind } from '../../core/vocabulary.ts';
import type { Database } from '../../store/database.ts';
import { newestChargeNumber, type Payer } from '../../store/ledger.ts';
import { type LimitChoice, lastWarning, type ScopeRef } from '../../store/limits.ts';
import type { RowChange } from '../../store/row-changes.ts';
import { limitText } from '../../texts/en/limits.ts';
import type { Clock } from '../base/ports.ts';
import { choiceOf, DEFAULT_CHOICE, type EffectiveLimit, effectiveLimits } from './effective-limits.ts';
import { PAYER_KINDS, type PayerIds, rowOf, scopesOf } from './payer-ids.ts';
import { readUsage } from './read-usage.ts';
import type { Refusal } from './refusal.ts';
import type { LimitUse, Reached, Reservation } from './reservation.ts';

interface KeptAccount extends LimitAccount {
  choice: LimitChoice;
  isLoaded: boolean;
  /** The newest charge that was there when the usage was read. */
  readTo: number;
  /** When each limit's level was last warned of. */
  warned: Map<string, number>;
}

const LEVELS = [100, 80] as const;

/** Keeps what every scope has used in step with the ledger. The only one who reserves and settles. */
export class LimitKeeper {
  private readonly accounts = Object.fromEntries(SCOPE_KINDS.map((kind) => [kind, new Map<number, KeptAccount>()])) as Record<
    ScopeKind,
    Map<number, KeptAccount>
  >;
  /** What is promised and free, by kind and row number. */
  private readonly rooms = Object.fromEntries(SCOPE_KINDS.map((kind) => [kind, new Room()])) as Record<ScopeKind, Room>;
  /** Counts how often limits, plans or domains were changed, or a raise has ended. */
  private edition = 1;
  /** When the next raise ends, of those that were read. */
  private raiseEndsAt = Number.POSITIVE_INFINITY;
  /** Told of limits that come near their end; set once, at the start. */
  onReached: (reached: Reached) => void = () => {};

  constructor(
    private readonly db: Database,
    private readonly clock: Pick<Clock, 'now' | 'steady'>,
    readonly zone: string,
  ) {}

  /** Reserves room when there is some with everybody who pays; it counts until it is settled or released. An earlier reservation is enlarged. */
  reserve(by: PayerIds, asked: Readonly<Amounts>, earlier: Reservation | null = null): Reservation | Refusal {
    if (!this.certainlyFits(by, asked)) {
      const scopes = scopesOf(by);
      const accounts = scopes.map((scope) => this.account(scope));
      const decision = decide(accounts, asked, this.clock.steady());
      if (decision.kind === 'full') {
        const [scope, account] = [scopes[decision.account] as ScopeRef, accounts[decision.account] as KeptAccount];
        if (decision.roomAt !== null) this.warn(scope, account, decision.limit, decision.used, true);
        return { ...decision, scope };
      }
    }
    this.promise(by, asked, 1);
    if (!earlier) return { kind: 'room', by, amounts: asked };
    earlier.amounts = addTo({ ...earlier.amounts }, asked);
    return earlier;
  }

  private certainlyFits(by: PayerIds, asked: Amounts): boolean {
    // Those of whom there are many, before anything is decided by one: so the processor waits for their memory together, not in turn.
    const { mailbox, domain, customer } = this.rooms;
    const sends = Math.min(
      by.mailboxId === null ? asked.sends : mailbox.sendsLeft(by.mailboxId),
      by.domainId === null ? asked.sends : domain.sendsLeft(by.domainId),
      by.customerId === null ? asked.sends : customer.sendsLeft(by.customerId),
    );
    if (sends < asked.sends) return false;
    const edition = this.currentEdition();
    for (const kind of PAYER_KINDS) {
      const id = rowOf(by, kind);
      if (id !== null && !this.rooms[kind].fits(id, asked, edition)) return false;
    }
    return true;
  }

  private promise(by: PayerIds, amounts: Amounts, factor: 1 | -1): void {
    for (const kind of PAYER_KINDS) {
      const id = rowOf(by, kind);
      if (id !== null) this.rooms[kind].promise(id, amounts, factor);
    }
  }

  release({ by, amounts }: Reservation): void {
    this.promise(by, amounts, -1);
  }

  /** The charge is durable, with that number and time in the ledger: what was promised is used. */
  chargeReserved(reservation: Reservation, charged: { at: number; seq: number; amounts: Amounts }): void {
    this.release(reservation);
    for (const scope of scopesOf(reservation.by)) {
      const account = this.account(scope);
      // What was read from the ledger after the charge holds it already.
      if (!account.isLoaded || account.readTo >= charged.seq) continue;
      charge(account, charged.at, charged.amounts);
      for (const limit of account.limits)
        if (charged.amounts[limit.quantity] > 0)
          this.warn(scope, account, limit, account.usage.used(limit.period, charged.at)[limit.quantity], false);
    }
  }

  /** The tightest limit of a payer, and what is left of it after so much more; null without any limit. */
  left(payer: Payer, amounts: Amounts): { of: ScopeRef['kind']; limit: string; left: number } | null {
    const now = this.clock.steady();
    let tightest: { of: ScopeRef['kind']; limit: string; left: number; share: number } | null = null;
    for (const scope of scopesOf(payer)) {
      const { limits, usage } = this.account(scope);
      for (const limit of limits) {
        const left = limit.amount - usage.used(limit.period, now)[limit.quantity] - amounts[limit.quantity];
        const share = left / Math.max(limit.amount, 1);
        if (limit.period !== 'minute' && (!tightest || share < tightest.share))
          tightest = { of: scope.kind, limit: limitText(limit), left, share };
      }
    }
    return tightest && { of: tightest.of, limit: tightest.limit, left: tightest.left };
  }

  /** The time to charge at. */
  now(): number {
    return this.clock.steady();
  }

  /** Looks whether a scope stands near its limits, and warns as if it had just come there. */
  review(scope: ScopeRef): void {
    const now = this.clock.steady();
    const account = this.loaded(scope);
    for (const limit of account.limits) this.warn(scope, account, limit, account.usage.used(limit.period, now)[limit.quantity], false);
  }

  /** What a scope may use and has used. Without limits of its own nothing is listed. */
  uses(scope: ScopeRef): LimitUse[] {
    const now = this.clock.steady();
    const account = this.loaded(scope);
    return this.effective(scope).map((one) => {
      const limit = one.amount === null ? null : ({ ...one, amount: one.amount } as Limit);
      const stop = limit && inTheWay(account, limit, { ...NONE, [one.quantity]: 1 }, now);
      return {
        ...one,
        used: account.usage.used(one.period, now)[one.quantity],
        reserved: account.room.promised(account.number, one.quantity),
        roomAt: stop ? this.wholeSecond(stop.roomAt) : null,
      };
    });
  }

  /** What was used in a period, limited or not. */
  used(scope: ScopeRef, period: Period): Amounts {
    return { ...this.loaded(scope).usage.used(period, this.clock.steady()) };
  }

  /** Each limit that the plan, the scope itself or a raise names. */
  effective(scope: ScopeRef): EffectiveLimit[] {
    return effectiveLimits(this.db, scope, this.clock.now());
  }

  /** What is done when one of them is full. */
  choice(scope: ScopeRef): { choice: LimitChoice; from: 'plan' | 'own' } {
    return choiceOf(this.db, scope);
  }

  /** Limits, plans or domains were changed: what is known of limits is read anew at the next question. Who is gone is forgotten. */
  follow(changes: readonly RowChange[]): void {
    for (const { kind, id, what } of changes) {
      if (kind === 'limits' || kind === 'plan' || kind === 'domain' || kind === 'mailbox') this.edition += 1;
      if (what !== 'gone' || (kind !== 'customer' && kind !== 'domain' && kind !== 'mailbox' && kind !== 'network' && kind !== 'outlet'))
        continue;
      this.accounts[kind].delete(id);
      // What open sessions were promised ends with them; the number is never used again.
      if (!this.rooms[kind].isPromised(id)) this.rooms[kind].forget(id);
    }
  }

  /** What was read of the ledger no longer holds: it was written to by hand. */
  readAnew(): void {
    for (const kept of Object.values(this.accounts))
      for (const [id, one] of kept) {
        one.isLoaded = false;
        one.warned.clear();
        if (!one.room.isPromised(id)) kept.delete(id);
      }
    this.edition += 1;
  }

  /** Drops accounts in which nothing counts any more. */
  tidy(): void {
    const now = this.clock.steady();
    for (const kept of Object.values(this.accounts))
      for (const [id, one] of kept) {
        if (one.room.isPromised(id) || (one.isLoaded && !one.usage.isIdle(now))) continue;
        kept.delete(id);
        one.room.forget(id);
      }
  }

  /** A time of the ledger by the wall clock, rounded up so that whoever comes then finds room. */
  wholeSecond(at: number): number;
  wholeSecond(at: number | null): number | null;
  wholeSecond(at: number | null): number | null {
    return at === null ? null : Math.ceil((at + this.clock.now() - this.clock.steady()) / 1000) * 1000;
  }

  private currentEdition(): number {
    if (this.raiseEndsAt <= this.clock.now()) {
      this.raiseEndsAt = Number.POSITIVE_INFINITY;
      this.edition += 1;
    }
    return this.edition;
  }

  private account(scope: ScopeRef): KeptAccount {
    const kept = this.accounts[scope.kind];
    let account = kept.get(scope.id);
    if (!account) {
      account = {
        usage: new Usage(this.zone),
        room: this.rooms[scope.kind],
        number: scope.id,
        limits: [],
        edition: 0,
        whenFull: 'refuse',
        choice: DEFAULT_CHOICE,
        isLoaded: false,
        readTo: 0,
        warned: new Map(),
      };
      kept.set(scope.id, account);
    }
    if (account.edition !== this.currentEdition()) this.readLimits(scope, account);
    if (!account.isLoaded && account.limits.length > 0) this.readUsage(scope, account);
    return account;
  }

  private loaded(scope: ScopeRef): KeptAccount {
    const account = this.account(scope);
    if (!account.isLoaded) this.readUsage(scope, account);
    return account;
  }

  private readLimits(scope: ScopeRef, account: KeptAccount): void {
    const effective = this.effective(scope);
    account.limits = effective.flatMap(({ period, quantity, amount }) => (amount === null ? [] : [{ period, quantity, amount }]));
    account.choice = this.choice(scope).choice;
    account.whenFull = account.choice.whenFull;
    account.edition = this.edition;
    for (const { raise } of effective) if (raise) this.raiseEndsAt = Math.min(this.raiseEndsAt, raise.until);
  }

  private readUsage(scope: ScopeRef, account: KeptAccount): void {
    const { db } = this;
    account.usage = readUsage(db, scope, this.zone, this.clock.steady());
    account.room.forget(scope.id);
    account.isLoaded = true;
    account.readTo = newestChargeNumber(db, scope.kind === 'outlet');
  }

  /** Tells of a limit that comes to 80 or 100 percent, once in its window. Bursts of a minute are over before anybody reads of them. */
  private warn(scope: ScopeRef, account: KeptAccount, limit: Limit, used: number, isFull: boolean): void {
    if (limit.period === 'minute' || limit.amount === 0) return;
    const level = LEVELS.find((one) => (one === 100 && isFull) || used * 100 >= limit.amount * one);
    if (level === undefined) return;
    const now = this.clock.steady();
    const key = `${limit.period} ${limit.quantity} ${level}`;
    const last = account.warned.get(key) ?? lastWarning(this.db, scope, limit, level);
    const since = windowStart(limit.period, now, this.zone);
    if (last !== null && last > since) {
      account.warned.set(key, last);
      return;
    }
    account.warned.set(key, now);
    this.onReached({ scope, limit, level, used });
  }
}
