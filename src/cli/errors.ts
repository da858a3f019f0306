import type { ProblemDocument } from '../api/schemas.ts';

/** How a command ends; the numbers are promised to scripts. */
export const EXIT = { done: 0, notGood: 1, usage: 2, refused: 3, unreachable: 4, exists: 5, unwritten: 6, stopped: 130 } as const;

/** What each means, for the help and the manual. */
export const EXIT_WORDS: readonly (readonly [number, string])[] = [
  [EXIT.done, 'done'],
  [EXIT.notGood, 'the answer is “not good”'],
  [EXIT.usage, 'wrong usage'],
  [EXIT.refused, 'the server refused the request'],
  [EXIT.unreachable, 'the service can’t be reached'],
  [EXIT.exists, 'already exists'],
  [EXIT.unwritten, 'the result could not be written'],
];

/** Ends a command: what is wrong, what to do, and the exit code. */
export class CommandError extends Error {
  constructor(
    readonly exitCode: number,
    readonly wrong: string,
    readonly remedy: string,
    /** The service's own words, where it was the service that said no. */
    readonly problem: Partial<ProblemDocument> | null = null,
  ) {
    super(wrong);
  }
}
