import { parentPort, Worker } from 'node:worker_threads';
import type { TransferOrder } from '../../core/transfer/order.ts';
import type { CarriedMessage, Sink } from '../../core/transfer/sink.ts';
import { StoreError } from '../open-data.ts';

/** What a thread of a transfer is given. */
export interface TransferWork {
  order: TransferOrder;
  /** The data directory. */
  data: string;
  /** Octets that a message may have. */
  mostOctets: number;
  /** What an export says of itself and of its domains. */
  about: ExportAbout | null;
  /** Where another server is found; null where DNS has nothing of it. */
  at: { address: string; port: number } | null;
  /** Roots of certificates that are trusted beside the usual ones, as PEM. */
  roots: string | null;
}

/** What the service adds to an export: it knows the records. */
export interface ExportAbout {
  version: string;
  host: string;
  at: number;
  /** By domain: its records as a zone file. */
  zones: Record<string, string>;
}

/** Of the thread's own memory; large texts are kept outside of it, and bounded. */
const MOST_MIB = 1024;

type Asked = 'open' | 'known' | 'put' | 'follow';
type Told = 'progress' | 'leftOut' | 'close';
/** All that the thread says. */
type FromThread =
  | { kind: 'ask'; id: number; what: Asked; values: unknown[] }
  | { kind: 'tell'; what: Told; values: unknown[] }
  | { kind: 'done'; outcome: string | null }
  | { kind: 'failed'; reason: string; isExpected: boolean };
type ToThread = { id: number; value: unknown } | { id: number; fault: string };

/** The thread's side: a sink that asks the service. */
export function sinkOfService(): Sink {
  const port = parentPort;
  if (!port) throw new Error('not in a thread');
  const waiting = new Map<number, { resolve: (value: never) => void; reject: (error: Error) => void }>();
  let last = 0;
  port.on('message', (message: ToThread) => {
    const asked = waiting.get(message.id);
    waiting.delete(message.id);
    if ('fault' in message) asked?.reject(new StoreError(message.fault));
    else asked?.resolve(message.value as never);
  });
  // Only while something is asked for does it keep the thread alive.
  port.unref();
  const ask = <Result>(what: Asked, ...values: unknown[]): Promise<Result> =>
    new Promise<Result>((resolve, reject) => {
      last += 1;
      waiting.set(last, { resolve, reject });
      port.ref();
      port.postMessage({ kind: 'ask', id: last, what, values } satisfies FromThread);
    }).finally(() => {
      if (waiting.size === 0) port.unref();
    });
  const tell = (what: Told, ...values: unknown[]): void => port.postMessage({ kind: 'tell', what, values } satisfies FromThread);
  return {
    open: (...values) => ask('open', ...values),
    known: (...values) => ask('known', ...values),
    put: (...values) => ask('put', ...values),
    follow: (...values) => ask('follow', ...values),
    progress: (...values) => tell('progress', ...values),
    leftOut: (...values) => tell('leftOut', ...values),
    close: (...values) => tell('close', ...values),
  };
}

/** Says how the work of this thread ended. */
export const saysHowItEnded = (work: Promise<string | null>): void => {
  const say = (message: FromThread): void => parentPort?.postMessage(message);
  work.then(
    (outcome) => say({ kind: 'done', outcome }),
    (error: unknown) =>
      say({
        kind: 'failed',
        reason: error instanceof StoreError ? error.message : error instanceof Error ? (error.stack ?? error.message) : String(error),
        isExpected: error instanceof StoreError,
      }),
  );
};

/** A transfer in a thread of its own. `result` is what it says of itself in the end; rejects with StoreError for what the disk or another server say. */
export class TransferThread {
  private readonly worker: Worker;
  readonly result: Promise<string | null>;

  constructor(program: string, work: TransferWork, sink: Sink) {
    // What others wrote is no reason to take the memory of everybody.
    this.worker = new Worker(program, { workerData: work, resourceLimits: { maxOldGenerationSizeMb: MOST_MIB } });
    this.result = new Promise((resolve, reject) => {
      this.worker.on('message', (message: FromThread) => {
        if (message.kind === 'done') resolve(message.outcome);
        else if (message.kind === 'failed') reject(message.isExpected ? new StoreError(message.reason) : new Error(message.reason));
        else if (message.kind === 'tell') (sink[message.what] as (...values: unknown[]) => void)(...message.values);
        else this.answer(message.id, (sink[message.what] as (...values: unknown[]) => Promise<unknown>)(...asBuffers(message.values)));
      });
      this.worker.on('error', reject);
      this.worker.on('exit', () => reject(new StoreError('It was broken off.')));
    });
  }

  /** Breaks it off; what was taken stays. */
  async stop(): Promise<void> {
    await this.worker.terminate();
  }

  private answer(id: number, result: Promise<unknown>): void {
    result.then(
      (value) => this.worker.postMessage({ id, value } satisfies ToThread),
      (error: unknown) => this.worker.postMessage({ id, fault: error instanceof Error ? error.message : String(error) } satisfies ToThread),
    );
  }
}

/** Octets come over as plain ones. */
const asBuffers = (values: unknown[]): unknown[] =>
  values.map((value) =>
    Array.isArray(value) && value.some((one) => (one as CarriedMessage)?.text instanceof Uint8Array)
      ? (value as CarriedMessage[]).map((one) => ({
          ...one,
          text: Buffer.from(one.text.buffer, one.text.byteOffset, one.text.byteLength),
        }))
      : value,
  );
