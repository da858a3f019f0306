import { badInput, Problem } from '../service/base/problem.ts';
import type { Call, CallInput } from './call.ts';
import { matches, withRevisions } from './revisions.ts';

interface Named {
  revision: string;
  name?: string;
  address?: string;
  cidr?: string;
  scope?: string;
}

/** Changes of one resource go one after the other, so that what a client has seen of it is still so when its change is made. */
export class Changes {
  private readonly under = new Map<string, Promise<unknown>>();

  /** Makes a change, if what it changes is still what `ifMatch` says; an empty field says nothing. */
  async make(one: Call, input: CallInput<never, never>, ifMatch: string): Promise<unknown> {
    const { current } = one;
    if (!current) {
      if (ifMatch !== '')
        throw badInput('If-Match', 'This object has no revision.', 'Leave If-Match out, or see /api/v1/openapi.json for the calls.');
      return one.handle(input);
    }
    const read = async (): Promise<Named> => withRevisions(current.result, await current.read(input)) as Named;
    const found = await read().catch((error: unknown) => {
      // The call itself says best what is not there.
      if (error instanceof Problem && ifMatch === '') return null;
      throw error;
    });
    if (!found) return one.handle(input);
    const key = `${current.kind} ${found.name ?? found.address ?? found.cidr ?? found.scope ?? ''}`;
    return this.after(key, async () => {
      if (ifMatch !== '') {
        const isSame = matches(ifMatch, (await read()).revision);
        if (isSame === null)
          throw badInput('If-Match', 'The field If-Match is not a list of revisions in quotes.', 'Write it like If-Match: "REVISION".');
        if (!isSame)
          throw new Problem(
            'changed-meanwhile',
            'It has changed since you read it; nothing was done.',
            'Read it again, then repeat your change.',
          );
      }
      return one.handle(input);
    });
  }

  private async after(key: string, act: () => Promise<unknown>): Promise<unknown> {
    const before = this.under.get(key) ?? Promise.resolve();
    const mine = before.then(act, act);
    // The next one waits for the end, however that was.
    const ended = mine.catch(() => {});
    this.under.set(key, ended);
    try {
      return await mine;
    } finally {
      if (this.under.get(key) === ended) this.under.delete(key);
    }
  }
}
