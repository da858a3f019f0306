/** Connections that may read again in one turn of the event loop: at 64 KiB each, some milliseconds' worth. */
const A_TURN = 64;

/**
 * Lets those who send much read in turns. The system gives a busy socket up to two MiB in one turn of the event loop, so that forty senders of large texts
 * would keep all others waiting for most of a second. One for the process, as there is one event loop.
 */
class ReadingTurns {
  private readonly queue: (() => void)[] = [];
  private asked = false;

  /** Calls back in a later turn, in the order of asking. */
  wait(readOn: () => void): void {
    this.queue.push(readOn);
    this.ask();
  }

  private ask(): void {
    if (this.asked) return;
    this.asked = true;
    setImmediate(() => {
      this.asked = false;
      for (const readOn of this.queue.splice(0, A_TURN)) readOn();
      if (this.queue.length > 0) this.ask();
    });
  }
}

export const readingTurns = new ReadingTurns();
