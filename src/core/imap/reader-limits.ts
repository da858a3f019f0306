import type { ReaderLimits } from './command-reader.ts';

/** Before anybody has signed in, nobody needs much. */
export const STRANGER: ReaderLimits = { line: 8192, literal: 4096, message: 4096, all: 8192 };
/** For who has signed in. */
export const memberLimits = (maxMessageBytes: number): ReaderLimits => ({
  line: 64 * 1024,
  literal: 64 * 1024,
  message: maxMessageBytes,
  all: maxMessageBytes * 2,
});
