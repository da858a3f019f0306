import type { ArrivedText } from '../core/mailbox/access-port.ts';
import { outlineInTurns } from '../core/mime/outline.ts';
import { breathe } from '../core/pieces.ts';
import { TextLost } from '../store/message-files.ts';
import type { AccessParts } from './open-conversation.ts';

/** What waits beyond that is found out when somebody asks for it. */
const MOST_WAITING = 10_000;
/** Outlines that are given to the service together. */
const TOGETHER = 50;

/** Finds out what is kept of texts that have just come, one after the other, while nobody waits for it. */
export class OutlineMaker {
  private waiting: ArrivedText[] = [];
  private isRunning = false;
  private isStopped = false;

  constructor(private readonly parts: AccessParts) {}

  add(texts: readonly ArrivedText[]): void {
    if (this.waiting.length < MOST_WAITING) this.waiting.push(...texts);
    if (this.isRunning) return;
    this.isRunning = true;
    this.run()
      .catch((error: unknown) => this.parts.onFault('IMAP', '', error))
      .finally(() => {
        this.isRunning = false;
      });
  }

  /** What is not known yet is found out when somebody asks for it. */
  stop(): void {
    this.isStopped = true;
  }

  private async run(): Promise<void> {
    while (this.waiting.length > 0 && !this.isStopped) {
      const some = this.waiting.splice(0, TOGETHER);
      const made = [];
      for (const { file, size } of some) {
        await breathe();
        if (this.isStopped) return;
        const text = await this.parts.texts.slice(file, size, 0, size).catch((error: unknown) => {
          // Who asks for that message is told.
          if (error instanceof TextLost) return null;
          throw error;
        });
        if (text) made.push({ file, outline: await outlineInTurns(text) });
      }
      if (made.length > 0) this.parts.port.keepOutlines(made);
    }
  }
}
