import { join } from 'node:path';
import { Worker } from 'node:worker_threads';
import { PROJECT } from '../project.ts';
import type { FromThread, ToThread } from './messages.ts';

/** The built program of a thread, by the name that it has in `src/programs`. */
export const threadProgram = (name: 'read' | 'file' | 'search' | 'hash' | 'backup' | 'transfer' | 'check'): string =>
  join(PROJECT, `dist/${name}-thread.mjs`);

/** What a thread may ask of whoever has made it, by name. */
type Owner = Record<string, (...values: never[]) => unknown>;

interface ThreadOptions {
  /** As it is called where it ended: “the thread that reads”. */
  name: string;
  owner?: Owner;
  /** Of its own memory, in MiB: what others wrote is no reason to take everybody's. */
  mostMib?: number;
  /** It ends when it has had nothing to do for so long. */
  idleMs?: number;
  /** What a fault becomes that the thread has foreseen; as it stands when left out. */
  foreseen?: (reason: string) => Error;
  /** What is thrown when it has ended with work under way. */
  ended?: (why: string) => Error;
}

interface Asked {
  resolve: (answer: never) => void;
  reject: (error: Error) => void;
}

/** How long a thread that is closed is waited for. */
const CLOSING_MS = 2000;

/** A thread that answers questions, made with the first of them; when it has ended, the next question gets a new one. */
export class ThreadCalls<Question, Answer> {
  private thread: Worker | null = null;
  private readonly asked = new Map<number, Asked>();
  private isClosed = new Int32Array(new SharedArrayBuffer(4));
  private last = 0;
  private idle: NodeJS.Timeout | null = null;

  /** `given` is what the thread is made with. */
  constructor(
    private readonly program: string,
    private readonly given: unknown,
    private readonly options: ThreadOptions,
  ) {}

  /** Questions that are under way. */
  get load(): number {
    return this.asked.size;
  }

  /** Throws what the thread threw, and when it has ended. */
  ask(question: Question): Promise<Answer> {
    if (this.idle) clearTimeout(this.idle);
    const thread = this.running();
    this.last += 1;
    const number = this.last;
    return new Promise<Answer>((resolve, reject) => {
      this.asked.set(number, { resolve, reject });
      thread.postMessage({ kind: 'ask', number, question } satisfies ToThread);
    });
  }

  /** Says something that has no answer; to nobody where no thread runs. */
  tell(question: Question): void {
    this.thread?.postMessage({ kind: 'ask', number: 0, question } satisfies ToThread);
  }

  /** Has the thread let go of what it holds, and waits for that; what it was asked for rejects. */
  close(why: string): void {
    const thread = this.takeThread();
    this.giveUp(why);
    if (!thread) return;
    thread.postMessage({ kind: 'close' } satisfies ToThread);
    Atomics.wait(this.isClosed, 0, 0, CLOSING_MS);
    thread.terminate().catch(() => {});
  }

  /** Breaks it off. */
  async stop(why = `${this.options.name} was ended`): Promise<void> {
    const thread = this.takeThread();
    this.giveUp(why);
    await thread?.terminate();
  }

  private takeThread(): Worker | null {
    const { thread } = this;
    this.thread = null;
    if (this.idle) clearTimeout(this.idle);
    return thread;
  }

  private running(): Worker {
    if (this.thread) return this.thread;
    const { name, mostMib } = this.options;
    this.isClosed = new Int32Array(new SharedArrayBuffer(4));
    const thread = new Worker(this.program, {
      workerData: { given: this.given, isClosed: this.isClosed },
      ...(mostMib === undefined ? {} : { resourceLimits: { maxOldGenerationSizeMb: mostMib } }),
    });
    // Nobody who ends the service waits for it.
    thread.unref();
    thread.on('message', (message: FromThread) => this.heard(thread, message));
    const ended = (why: string): void => {
      if (this.thread !== thread) return;
      this.takeThread();
      this.giveUp(why);
    };
    thread.on('error', (error) => ended(`${name} has ended: ${error instanceof Error ? error.message : String(error)}`));
    thread.on('exit', () => ended(`${name} has ended`));
    this.thread = thread;
    return thread;
  }

  private heard(thread: Worker, message: FromThread): void {
    if (message.kind === 'wish') return this.grant(thread, message);
    const asked = this.asked.get(message.number);
    this.asked.delete(message.number);
    const { idleMs, foreseen } = this.options;
    if (this.asked.size === 0 && idleMs !== undefined && this.thread === thread)
      this.idle = setTimeout(() => this.stop().catch(() => {}), idleMs).unref();
    if (message.kind === 'answer') asked?.resolve(message.answer as never);
    else asked?.reject(message.isForeseen && foreseen ? foreseen(message.reason) : new Error(message.reason));
  }

  /** Does what the thread wishes, and says what came of it where that is waited for. */
  private grant(thread: Worker, { number, what, values }: Extract<FromThread, { kind: 'wish' }>): void {
    const done = (async () => (this.options.owner?.[what] as ((...values: unknown[]) => unknown) | undefined)?.(...values))();
    done.then(
      (value) => number > 0 && thread.postMessage({ kind: 'granted', number, value } satisfies ToThread),
      (error: unknown) =>
        thread.postMessage({ kind: 'refused', number, reason: error instanceof Error ? error.message : String(error) } satisfies ToThread),
    );
  }

  private giveUp(why: string): void {
    const { ended = (text: string) => new Error(text) } = this.options;
    const asked = [...this.asked.values()];
    this.asked.clear();
    for (const { reject } of asked) reject(ended(why));
  }
}
