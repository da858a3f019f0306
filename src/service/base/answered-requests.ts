import { createHmac } from 'node:crypto';
import * as store from '../../store/answered-requests.ts';
import type { BaseDeps } from './deps.ts';
import { badInput, Problem } from './problem.ts';

/** So long an answer is kept, and so many of an account. */
export const ANSWERS_KEPT_MS = 24 * 3_600_000;
const MOST_KEPT = 10_000;
const FIELD = 'Idempotency-Key';

/** How an answer is looked at when its request comes again. */
export interface Repeats {
  /** Whether it says, or has come to mean, that nothing was done. */
  isRefusal?: (answer: unknown) => boolean;
  /** What is answered in its place. */
  answer?: (answer: unknown) => unknown;
}

/**
 * Requests that carry a key of their own are done once, however often they come: a repeated one gets the answer of the first. The key is
 * written down before anything is done, so a request that a stop of the service has cut short is never done twice unnoticed.
 */
export class AnsweredRequests {
  private readonly underWay = new Set<string>();
  private readonly digestKey: Buffer;

  constructor(private readonly context: Pick<BaseDeps, 'db' | 'clock' | 'keyFile'>) {
    this.digestKey = context.keyFile.derived('requests with a key');
  }

  /** Answers with what `act` says, or with what it said when this request came first. A refusal is not kept: it has changed nothing. */
  async once(accountId: number, field: string, request: string, act: () => Promise<unknown>, repeats: Repeats = {}): Promise<unknown> {
    const { db, clock, keyFile } = this.context;
    const key = keyOf(field);
    const digest = createHmac('sha256', this.digestKey).update(request).digest();
    const place = `${accountId} ${key}`;
    const before = await db.commit(() => {
      const found = store.findAnswered(db, accountId, key);
      if (found) return found;
      if (store.countAnswered(db, accountId) >= MOST_KEPT)
        throw new Problem(
          'too-many',
          `Your account has used ${MOST_KEPT.toLocaleString('en')} keys in the last 24 hours.`,
          `Leave ${FIELD} out, or wait.`,
          null,
          3600,
        );
      store.noteRequest(db, accountId, key, digest, clock.now());
      this.underWay.add(place);
      return null;
    });
    if (before) {
      // What has come to nothing leaves its key free, also for what was corrected.
      if (before.answer !== null && repeats.isRefusal?.(JSON.parse(keyFile.open(before.answer)))) {
        await db.commit(() => store.forgetAnswer(db, accountId, key, before.answer));
        return this.once(accountId, field, request, act, repeats);
      }
      const first = this.repeated(before, digest, place);
      return repeats.answer ? repeats.answer(first) : first;
    }
    try {
      const answer = await act();
      if (repeats.isRefusal?.(answer)) await db.commit(() => store.forgetRequest(db, accountId, key));
      else await db.commit(() => store.keepAnswer(db, accountId, key, keyFile.seal(JSON.stringify(answer))));
      return answer;
    } catch (error) {
      if (error instanceof Problem) await db.commit(() => store.forgetRequest(db, accountId, key));
      throw error;
    } finally {
      this.underWay.delete(place);
    }
  }

  private repeated({ request, answer }: store.AnsweredRequest, digest: Buffer, place: string): unknown {
    if (!request.equals(digest))
      throw new Problem('key-taken', 'This key was used for another request.', 'Use a new key for each request.', FIELD);
    if (answer !== null) return JSON.parse(this.context.keyFile.open(answer));
    if (this.underWay.has(place)) throw new Problem('under-way', 'The same request is in progress.', 'Try again in a moment.', null, 1);
    throw new Problem(
      'outcome-unknown',
      'The same request was interrupted; it is not known whether it took effect.',
      'Check whether it did. If not, repeat it with a new key.',
    );
  }
}

/** The key, bare or in quotes as a structured field has it (RFC 9651 §3.3.3). */
function keyOf(field: string): string {
  const key = /^"(.*)"$/.exec(field.trim())?.[1] ?? field.trim();
  if (!/^[\x21\x23-\x5b\x5d-\x7e]{1,255}$/.test(key))
    throw badInput(
      FIELD,
      `The field ${FIELD} is not 1 to 255 printable ASCII characters without spaces.`,
      'Use, for example, a random UUID.',
    );
  return key;
}
