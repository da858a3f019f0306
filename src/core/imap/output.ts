import type { Write } from './dialogue.ts';

/** What a session gives out, for the shell to do in its order. */
export type ImapOutput =
  | { kind: 'send'; bytes: string }
  /** Something to be done with `run`; nothing more is read until it is. */
  | { kind: 'run'; work: (write: Write) => Promise<void> }
  | { kind: 'start-tls' }
  /** From here on both sides are compressed (RFC 4978). */
  | { kind: 'compress' }
  | { kind: 'close' };
