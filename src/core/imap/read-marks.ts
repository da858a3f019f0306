import { SEEN } from '../mailbox/flags.ts';
import type { Mailroom } from './mailroom.ts';

/** Messages that are marked in one change. */
const A_PIECE = 200;

/**
 * Marks messages of a folder as seen while their texts are on their way already: those that are read while one change is being written
 * are written together by the next (RFC 3501 §6.4.5 asks for the mark, not for the order).
 */
export class ReadMarks {
  private waiting: number[] = [];
  private running: Promise<void> | null = null;
  private fault: unknown = null;

  constructor(
    private readonly mailroom: Mailroom,
    readonly folder: number,
  ) {}

  add(uid: number): void {
    this.waiting.push(uid);
    this.running ??= this.run().finally(() => {
      this.running = null;
    });
  }

  /** Resolves when all is written. Throws what kept it from that. */
  async written(): Promise<void> {
    for (let { running } = this; running !== null; running = this.running) await running;
    const { fault } = this;
    this.fault = null;
    if (fault !== null) throw fault;
  }

  private async run(): Promise<void> {
    while (this.waiting.length > 0) {
      const uids = this.waiting.splice(0, A_PIECE).map((uid): [number, number] => [uid, uid]);
      try {
        const by = { flags: SEEN, keywords: '' };
        await this.mailroom.operate({ kind: 'flag', folder: this.folder, uids, change: 'add', by, unchangedSince: null });
      } catch (error) {
        this.fault = error;
        this.waiting = [];
      }
    }
  }
}
