import pino from 'pino';

/** So much of the log waits at most for whoever reads it; more is left out. */
const MOST_WAITING = 4 * 1024 * 1024;

/** The log, to an open file: it never keeps the service waiting, and neither a reader that has gone nor a full disk ends it. */
export function openLogOutput(fd: number): pino.DestinationStream & { flushSync(): void } {
  const output = pino.destination({ fd, sync: false, minLength: 0, maxLength: MOST_WAITING });
  // What could not be written is lost; the next line is tried again.
  output.on('error', () => {});
  return {
    write: (line) => output.write(line),
    flushSync: () => {
      try {
        output.flushSync();
      } catch {
        // Nobody reads it.
      }
    },
  };
}
