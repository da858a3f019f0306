import { createRequire } from 'node:module';
import { Worker } from 'node:worker_threads';

/**
 * What the thread runs, as plain JavaScript, since it is started from this text: a connection of its own, which can only read. It sees what is
 * committed, and nobody waits for it but who asks.
 */
const THREAD = `
const { parentPort, workerData } = require('node:worker_threads');
const SQLite = require(workerData.engine);
const db = new SQLite(workerData.file, { readonly: true });
const statements = new Map();
parentPort.on('message', ({ number, sql, values }) => {
  if (sql === undefined) {
    db.close();
    Atomics.store(workerData.isClosed, 0, 1);
    Atomics.notify(workerData.isClosed, 0);
    return;
  }
  try {
    if (!statements.has(sql)) statements.set(sql, db.prepare(sql));
    parentPort.postMessage({ number, rows: statements.get(sql).all(...values) });
  } catch (error) {
    parentPort.postMessage({ number, fault: error instanceof Error ? error.message : String(error) });
  }
});
`;
const ENGINE = createRequire(import.meta.url).resolve('better-sqlite3');

/** A read that takes longer than that is not waited for. */
const CLOSING_MS = 2000;

interface Asked {
  resolve: (rows: unknown[]) => void;
  reject: (error: Error) => void;
}
type Told = { number: number; rows: unknown[] } | { number: number; fault: string };

/** Reads that take long, on a thread of their own, so that mail does not wait for sums. The thread is made when the first is asked for. */
export class LongReads {
  private thread: Worker | null = null;
  private readonly asked = new Map<number, Asked>();
  private isClosed = new Int32Array(new SharedArrayBuffer(4));
  private last = 0;

  constructor(private readonly file: string) {}

  /** All rows of a question. Throws what the database says, and when the thread has ended. */
  all<Row>(sql: string, values: readonly unknown[]): Promise<Row[]> {
    const thread = this.running();
    this.last += 1;
    const number = this.last;
    return new Promise((resolve, reject) => {
      this.asked.set(number, { resolve: resolve as (rows: unknown[]) => void, reject });
      thread.postMessage({ number, sql, values });
    });
  }

  /** Waits for the thread to close its connection, so that the last one to close the database is its owner, who leaves no log of it behind. */
  close(): void {
    const { thread } = this;
    this.thread = null;
    this.giveUp('the database is closed');
    if (!thread) return;
    thread.postMessage({});
    Atomics.wait(this.isClosed, 0, 0, CLOSING_MS);
    thread.terminate().catch(() => {});
  }

  private running(): Worker {
    if (this.thread) return this.thread;
    this.isClosed = new Int32Array(new SharedArrayBuffer(4));
    const thread = new Worker(THREAD, { eval: true, workerData: { engine: ENGINE, file: this.file, isClosed: this.isClosed } });
    thread.unref();
    thread.on('message', (told: Told) => {
      const asked = this.asked.get(told.number);
      this.asked.delete(told.number);
      if ('rows' in told) asked?.resolve(told.rows);
      else asked?.reject(new Error(told.fault));
    });
    // Whoever waits is told; the next question gets a new thread.
    const ended = (why: string): void => {
      if (this.thread !== thread) return;
      this.thread = null;
      this.giveUp(why);
    };
    thread.on('error', (error) => ended(`the thread that reads has ended: ${error instanceof Error ? error.message : String(error)}`));
    thread.on('exit', () => ended('the thread that reads has ended'));
    this.thread = thread;
    return thread;
  }

  private giveUp(why: string): void {
    for (const { reject } of this.asked.values()) reject(new Error(why));
    this.asked.clear();
  }
}
