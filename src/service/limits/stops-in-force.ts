import { scopeKey } from '../../core/limits/scope-key.ts';
import type { Database } from '../../store/database.ts';
import type { Payer } from '../../store/ledger.ts';
import type { ScopeRef } from '../../store/limits.ts';
import type { RowChange } from '../../store/row-changes.ts';
import { listStops, type Stop } from '../../store/stops.ts';

/** What is stopped at this moment, at hand for every recipient; the store has the same. */
export class Stops {
  private readonly stops = new Map<string, Stop[]>();

  constructor(private readonly db: Database) {
    this.read();
  }

  follow(changes: readonly RowChange[]): void {
    if (changes.some(({ kind }) => kind.endsWith('-stop'))) this.read();
  }

  private read(): void {
    this.stops.clear();
    for (const stop of listStops(this.db)) {
      const key = `${stop.scope} ${stop.scopeId}`;
      this.stops.set(key, [...(this.stops.get(key) ?? []), stop]);
    }
  }

  get isEmpty(): boolean {
    return this.stops.size === 0;
  }

  /** What keeps one of these scopes from sending or receiving; null when nothing does. */
  find(scopes: readonly ScopeRef[], what: 'sending' | 'receiving'): Stop | null {
    if (this.stops.size === 0) return null;
    for (const { kind, id } of scopes) {
      const found = this.stops.get(scopeKey({ kind, id }))?.find((one) => one[what]);
      if (found) return found;
    }
    return null;
  }

  of(scope: ScopeRef): readonly Stop[] {
    return this.stops.get(scopeKey(scope)) ?? [];
  }
}

/** The scopes whose pause or brake concerns a payer. */
export const stoppable = ({ mailboxId, domainId, customerId }: Pick<Payer, 'mailboxId' | 'domainId' | 'customerId'>): ScopeRef[] => [
  ...(mailboxId === null ? [] : [{ kind: 'mailbox' as const, id: mailboxId }]),
  ...(domainId === null ? [] : [{ kind: 'domain' as const, id: domainId }]),
  ...(customerId === null ? [] : [{ kind: 'customer' as const, id: customerId }]),
];
