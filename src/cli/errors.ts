import type { ProblemDocument } from '../api/schemas.ts';

/** How a command ends; the numbers are promised to scripts. */
export const EXIT = { done: 0, notGood: 1, usage: 2, refused: 3, unreachable: 4, exists: 5, unwritten: 6, stopped: 130 } as const;

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
