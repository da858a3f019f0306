/** What a sender usually does in an hour like this one, from past weeks. */
export interface UsualRate {
  median: number;
  /** Above this an hour is far beyond the usual. */
  threshold: number;
}

/** Below this many sends an hour nothing is unusual enough to bother anybody. */
export const LEAST_UNUSUAL = 30;
/** So many samples make a habit. */
export const LEAST_SAMPLES = 6;
/** Median absolute deviation to standard deviation, for a normal distribution. */
const MAD_TO_SIGMA = 1.4826;
const SIGMAS = 8;
const TIMES = 4;

const middle = (sorted: readonly number[]): number => {
  const half = Math.floor(sorted.length / 2);
  return sorted.length % 2 === 1 ? (sorted[half] ?? 0) : ((sorted[half - 1] ?? 0) + (sorted[half] ?? 0)) / 2;
};

/**
 * The usual number of sends in an hour, from the same hour of the week (and its neighbours) in past weeks. Median and median absolute
 * deviation: one wild week in the past moves neither. Null with too few samples to know a habit.
 */
export function usualRate(samples: readonly number[]): UsualRate | null {
  if (samples.length < LEAST_SAMPLES) return null;
  const median = middle([...samples].sort((one, other) => one - other));
  const deviation = middle(samples.map((one) => Math.abs(one - median)).sort((one, other) => one - other));
  const spread = Math.max(MAD_TO_SIGMA * deviation, Math.sqrt(median), 1);
  return { median, threshold: Math.max(LEAST_UNUSUAL, median * TIMES, median + SIGMAS * spread) };
}

/** Whether so many final failures among so many ended sends call for the brake. */
export const brakeDue = (failed: number, ended: number, brake: { share: number; least: number }): boolean =>
  ended >= brake.least && failed * 100 >= ended * brake.share;
