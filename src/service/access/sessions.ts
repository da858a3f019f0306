import type { RowChange } from '../../store/row-changes.ts';

/** Who somebody is signed in as, by the rows that make it so. */
export type Holder = Partial<
  Record<'account' | 'api_token' | 'web_session' | 'mailbox' | 'app_password' | 'domain' | 'customer' | 'network', number | null>
>;

/**
 * Everybody who is signed in at this moment: mail sessions, streams, console pages. Who signed in as something that is removed, gets another password
 * or is paused, is told to end.
 */
export class Sessions {
  private readonly open = new Map<string, Set<() => void>>();

  /** Notes a session; `end` is called at most once. Returns how to take the note away. */
  begin(holder: Holder, end: () => void): () => void {
    const keys = Object.entries(holder).flatMap(([kind, id]) => (id === null || id === undefined ? [] : [`${kind} ${id}`]));
    const leave = (): void => {
      for (const key of keys) {
        const ends = this.open.get(key);
        ends?.delete(endOnce);
        if (ends?.size === 0) this.open.delete(key);
      }
    };
    const endOnce = (): void => {
      leave();
      end();
    };
    for (const key of keys) {
      const ends = this.open.get(key) ?? new Set();
      ends.add(endOnce);
      this.open.set(key, ends);
    }
    return leave;
  }

  follow(changes: readonly RowChange[]): void {
    for (const { kind, id, what } of changes) {
      if (what === 'added' && !kind.endsWith('-stop')) continue;
      // A pause that ends concerns nobody who is signed in.
      if (what === 'gone' && kind.endsWith('-stop')) continue;
      // A domain or customer that only changes keeps its mailboxes.
      if (what === 'changed' && (kind === 'domain' || kind === 'customer')) continue;
      for (const end of [...(this.open.get(`${kind.replace(/-stop$/, '')} ${id}`) ?? [])]) end();
    }
  }

  /** How many are signed in as that. */
  count(kind: keyof Holder, id: number): number {
    return this.open.get(`${kind} ${id}`)?.size ?? 0;
  }
}
