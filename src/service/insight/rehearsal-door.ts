import type { Exchange } from '../../core/rehearsal/scripts.ts';

/** A connection that is made to see what comes of it. Whatever fails is thrown as RehearsalFault. */
export interface RehearsalTalk {
  /** What was said since it was asked last, passwords left out. */
  said(): { by: 'us' | 'them'; text: string }[];
  /** Resolves with what was said last. */
  talk(exchanges: readonly Exchange[]): Promise<string>;
  /** Begins TLS, asking for a name; resolves with the chain that was shown as PEM, and the version. Whether it is to be trusted is not decided here. */
  startTls(name: string): Promise<{ pem: string; version: string }>;
  close(): void;
}

/** Connects to an address of the world. */
export type OpenRehearsal = (address: string, port: number) => Promise<RehearsalTalk>;

export class RehearsalFault extends Error {
  constructor(
    readonly kind: 'connection' | 'answer' | 'tls',
    /** Of the connection, or what was said instead. */
    readonly what: string,
  ) {
    super(what);
  }
}
