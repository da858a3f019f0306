import { StoreError } from '../../store/open-data.ts';

/** A disk that has not answered by then is not waited for. */
const LONGEST_MS = 10_000;

/** What a file system says, or StoreError when it says nothing in time; `what` begins the sentence. */
export async function withinTime<T>(work: Promise<T>, what: string, longestMs = LONGEST_MS): Promise<T> {
  let timer: NodeJS.Timeout | null = null;
  const late = new Promise<never>((_resolve, reject) => {
    timer = setTimeout(() => reject(new StoreError(`${what} does not answer.`)), longestMs);
  });
  // What fails after its time is nobody's.
  work.catch(() => {});
  try {
    return await Promise.race([work, late]);
  } finally {
    if (timer) clearTimeout(timer);
  }
}
