import { createHmac, randomBytes } from 'node:crypto';
import { BoundedMap } from '../../core/bounded-map.ts';
import { Gate } from '../../core/gate.ts';
import { passwordMatches } from '../base/secrets.ts';

/** Each takes a tenth of a second of a core: who comes behind so many is asked to come again. */
const MOST_WAITING = 100;
/** A client that fetches mail every few minutes shows the same password each time. */
const KNOWN_MS = 15 * 60_000;
const MOST_KNOWN = 20_000;

/** Says whether the one who tries may, at the moment in which it is their turn, and hears of it when they were wrong. */
export interface PasswordAttempt {
  mayTry(): boolean;
  failed(): void;
}

/**
 * Compares passwords with what is kept of them. That is slow by intent, so only a few are compared at a time, and the rest of the machine stays free
 * for mail. A password that was right is known for a while by a keyed hash that no disk has seen.
 */
export class PasswordChecks {
  private readonly gate: Gate;
  private readonly known = new BoundedMap<string, number>(MOST_KNOWN);
  private readonly secret = randomBytes(32);
  private waiting = 0;

  constructor(
    atOnce: number,
    private readonly matches: typeof passwordMatches = passwordMatches,
  ) {
    this.gate = new Gate(atOnce);
  }

  /** `kept` is null for an unknown user, which costs the same as a wrong password. */
  async compare(
    password: string,
    kept: string | null,
    now: number,
    attempt: PasswordAttempt,
  ): Promise<'right' | 'wrong' | 'held' | 'busy'> {
    const mark = createHmac('sha256', this.secret)
      .update(`${kept}\0${password.slice(0, 1024)}`)
      .digest('base64');
    const since = this.known.get(mark);
    if (since !== undefined && now >= since && now - since < KNOWN_MS) return attempt.mayTry() ? 'right' : 'held';
    if (this.waiting >= MOST_WAITING) return 'busy';
    this.waiting += 1;
    try {
      return await this.gate.run(async () => {
        // Of many guesses at once, those after the first few wrong ones find the door closed.
        if (!attempt.mayTry()) return 'held';
        if (!(await this.matches(password, kept))) {
          attempt.failed();
          return 'wrong';
        }
        this.known.renew(mark, now);
        return 'right';
      });
    } finally {
      this.waiting -= 1;
    }
  }
}
