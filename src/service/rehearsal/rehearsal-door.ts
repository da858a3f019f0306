import type { RehearsalOrder } from '../../core/rehearsal/order.ts';
import type { RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
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

/** Where hosts that are each other’s witnesses have one another rehearse. */
export interface Witnesses {
  /** The key by which others know this host, as base64. */
  readonly publicKey: string;
  /** Has a witness take the steps. Throws Problem. */
  ask(name: string, order: RehearsalOrder): Promise<RehearsalWay[]>;
  /** Takes the steps that another host asks for; call and answer are signed; `from` is the address that the call came from. Throws Problem. */
  answer(
    headers: Partial<Record<string, string>>,
    path: string,
    body: string,
    from: string,
  ): Promise<{ headers: Record<string, string>; body: string }>;
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
