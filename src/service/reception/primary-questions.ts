import { Gate } from '../../core/gate.ts';
import type { AttemptWatch, Clock } from '../base/ports.ts';

export type PrimaryAnswer = { kind: 'yes' } | { kind: 'no'; text: string } | { kind: 'unknown' };

/** A question is given up after this: the client that waits for it is told to try later. */
const LONGEST_MS = 8000;
/** A server that did not answer is not asked again for so long. */
const SILENT_MS = 30_000;
/** Questions to one server that wait for their turn; further ones are not asked. */
const MOST_WAITING = 50;

/** When a question ends, and how the conversation under way is given up. */
export interface QuestionEnd {
  watch: AttemptWatch;
  isOver: () => boolean;
}

interface Primary {
  gate: Gate;
  waiting: number;
  silentUntil: number;
}

/** What is asked of the servers that have a domain's mailboxes: one question at a time to each, of seconds; nobody waits for one that hangs. */
export class PrimaryQuestions {
  private readonly primaries = new Map<number, Primary>();

  constructor(
    private readonly clock: Pick<Clock, 'steady'>,
    private readonly longestMs = LONGEST_MS,
  ) {}

  async ask(domainId: number, question: (end: QuestionEnd) => Promise<PrimaryAnswer>): Promise<PrimaryAnswer> {
    const primary = this.primaries.get(domainId) ?? { gate: new Gate(1), waiting: 0, silentUntil: 0 };
    if (primary.waiting >= MOST_WAITING || this.clock.steady() < primary.silentUntil) return { kind: 'unknown' };
    this.primaries.set(domainId, primary);
    primary.waiting += 1;
    try {
      return await primary.gate.run(() => this.askNow(primary, question));
    } finally {
      primary.waiting -= 1;
      if (primary.waiting === 0 && this.clock.steady() >= primary.silentUntil) this.primaries.delete(domainId);
    }
  }

  private async askNow(primary: Primary, question: (end: QuestionEnd) => Promise<PrimaryAnswer>): Promise<PrimaryAnswer> {
    // It fell silent while this waited for its turn.
    if (this.clock.steady() < primary.silentUntil) return { kind: 'unknown' };
    const watch: AttemptWatch = { current: null };
    let isOver = false;
    let timer: NodeJS.Timeout | null = null;
    const late = new Promise<PrimaryAnswer>((resolve) => {
      timer = setTimeout(() => {
        isOver = true;
        primary.silentUntil = this.clock.steady() + SILENT_MS;
        watch.current?.giveUp('did not answer in time');
        resolve({ kind: 'unknown' });
      }, this.longestMs);
    });
    try {
      return await Promise.race([question({ watch, isOver: () => isOver }), late]);
    } finally {
      if (timer) clearTimeout(timer);
    }
  }
}
