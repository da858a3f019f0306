import type { Database } from '../../store/database.ts';
import { countWaitingForRoom } from '../../store/queue.ts';

/** Counts the recipients that wait for room under a limit, those of open sessions included, so that never more wait than may. */
export class Holds {
  private readonly promised = new Map<string, number>();

  constructor(private readonly db: Database) {}

  /** Takes a place among the waiting; false when there is none. */
  take(account: string, most: number): boolean {
    if (this.count(account) >= most) return false;
    this.promised.set(account, (this.promised.get(account) ?? 0) + 1);
    return true;
  }

  count(account: string): number {
    return (this.promised.get(account) ?? 0) + countWaitingForRoom(this.db, account);
  }

  /** The place was written down, or is not needed. */
  release(account: string): void {
    const left = (this.promised.get(account) ?? 1) - 1;
    if (left > 0) this.promised.set(account, left);
    else this.promised.delete(account);
  }
}
