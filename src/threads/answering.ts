import { parentPort, workerData } from 'node:worker_threads';
import type { FromThread, ToThread } from './messages.ts';

/** What a thread can ask of whoever has made it. */
export interface ThreadOwner {
  /** Resolves with what came of it; throws what it threw, as `refused` makes it. */
  ask<Result>(what: string, ...values: unknown[]): Promise<Result>;
  /** Nothing comes back. */
  tell(what: string, ...values: unknown[]): void;
}

/** What a thread does. */
interface ThreadWork<Question, Answer> {
  answer: (question: Question) => Answer | Promise<Answer>;
  /** Lets go of what it holds. */
  close?: () => void;
}

/**
 * Runs this thread: makes its work with what it was given, and answers one question after the other. A fault that is foreseen is told by its
 * message, any other one by where it came from.
 */
export function answerCalls<Given, Question, Answer>(
  make: (given: Given, owner: ThreadOwner) => ThreadWork<Question, Answer>,
  isForeseen: (error: unknown) => boolean = () => false,
  refused: (reason: string) => Error = (reason) => new Error(reason),
): void {
  const port = parentPort;
  if (!port) throw new Error('this is the program of a thread');
  const say = (message: FromThread): void => port.postMessage(message);
  const { given, isClosed } = workerData as { given: Given; isClosed: Int32Array };
  const wishes = new Map<number, { resolve: (value: never) => void; reject: (error: Error) => void }>();
  let last = 0;
  const work = make(given, {
    ask: (what, ...values) =>
      new Promise((resolve, reject) => {
        last += 1;
        wishes.set(last, { resolve, reject });
        say({ kind: 'wish', number: last, what, values });
      }),
    tell: (what, ...values) => say({ kind: 'wish', number: 0, what, values }),
  });
  const answer = async (number: number, question: Question): Promise<void> => {
    try {
      const answered = await work.answer(question);
      if (number > 0) say({ kind: 'answer', number, answer: answered });
    } catch (error) {
      const foreseen = isForeseen(error);
      const reason = error instanceof Error ? ((foreseen ? null : error.stack) ?? error.message) : String(error);
      say({ kind: 'fault', number, reason, isForeseen: foreseen });
    }
  };
  port.on('message', (message: ToThread) => {
    if (message.kind === 'ask') answer(message.number, message.question as Question).catch(() => {});
    else if (message.kind === 'close') {
      work.close?.();
      Atomics.store(isClosed, 0, 1);
      Atomics.notify(isClosed, 0);
    } else {
      const wish = wishes.get(message.number);
      wishes.delete(message.number);
      if (message.kind === 'granted') wish?.resolve(message.value as never);
      else wish?.reject(refused(message.reason));
    }
  });
}
