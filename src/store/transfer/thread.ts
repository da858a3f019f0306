import type { TransferOrder } from '../../core/transfer/order.ts';
import type { CarriedMessage, Sink } from '../../core/transfer/sink.ts';
import type { ThreadOwner } from '../../threads/answering.ts';
import { ThreadCalls, threadProgram } from '../../threads/calls.ts';
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

/** The thread's side: a sink that asks the service. */
export const sinkOf = (owner: ThreadOwner): Sink => ({
  open: (...values) => owner.ask('open', ...values),
  known: (...values) => owner.ask('known', ...values),
  put: (...values) => owner.ask('put', ...values),
  follow: (...values) => owner.ask('follow', ...values),
  progress: (...values) => owner.tell('progress', ...values),
  leftOut: (...values) => owner.tell('leftOut', ...values),
  close: (...values) => owner.tell('close', ...values),
});

/** A transfer in a thread of its own. `result` is what it says of itself in the end; rejects with StoreError for what the disk or another server say. */
export class TransferThread {
  private readonly calls: ThreadCalls<TransferWork, string | null>;
  readonly result: Promise<string | null>;

  constructor(work: TransferWork, sink: Sink) {
    this.calls = new ThreadCalls(threadProgram('transfer'), null, {
      name: 'the thread of a transfer',
      mostMib: MOST_MIB,
      owner: ownerOf(sink),
      foreseen: (reason) => new StoreError(reason),
      ended: () => new StoreError('It was interrupted.'),
    });
    this.result = this.calls.ask(work).finally(() => this.calls.stop());
  }

  /** Breaks it off; what was taken stays. */
  stop(): Promise<void> {
    return this.calls.stop();
  }
}

/** The service's side of the same. */
const ownerOf = (sink: Sink): { [Name in keyof Sink]: Sink[Name] } => ({
  open: (...values) => sink.open(...values),
  known: (...values) => sink.known(...values),
  put: (part, folder, messages) => sink.put(part, folder, asBuffers(messages)),
  follow: (...values) => sink.follow(...values),
  progress: (...values) => sink.progress(...values),
  leftOut: (...values) => sink.leftOut(...values),
  close: (...values) => sink.close(...values),
});

/** Octets come over as plain ones. */
const asBuffers = (messages: readonly CarriedMessage[]): CarriedMessage[] =>
  messages.map((one) => ({ ...one, text: Buffer.from(one.text.buffer, one.text.byteOffset, one.text.byteLength) }));
