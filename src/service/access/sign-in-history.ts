import type { NewSignIns } from '../../store/sign-in-history.ts';

/** Beyond so many that could not be written down yet, further ones are left out. */
const MOST_WAITING = 20_000;

type SignIn = Omit<NewSignIns, 'times' | 'first' | 'last'>;

/** Who signed in to which mailbox, from where and with which password: counted in memory, written down every few seconds, kept for 90 days. */
export class SignInHistory {
  private waiting = new Map<string, NewSignIns>();

  note(one: SignIn, now: number): void {
    const key = [one.mailboxId, one.isGood ? 1 : 0, one.service, one.client, one.device ?? ''].join(' ');
    const before = this.waiting.get(key);
    if (!before && this.waiting.size >= MOST_WAITING) return;
    this.waiting.set(key, { ...one, times: (before?.times ?? 0) + 1, first: before?.first ?? now, last: now });
  }

  /** What was noted since the last time. */
  take(): NewSignIns[] {
    const taken = [...this.waiting.values()];
    this.waiting = new Map();
    return taken;
  }
}
