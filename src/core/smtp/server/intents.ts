import type { Address } from '../../address/mailbox-address.ts';
import type { Overhear } from '../../overhear.ts';
import type { OctetBudget } from '../octet-budget.ts';
import type { Reply } from '../replies.ts';
import type { Envelope, RecipientParameters } from './envelope.ts';

/** What the session needs decided; the shell answers with `answer`, and input waits until then. */
export type Intent =
  | { kind: 'sign-in'; user: string; password: string }
  | { kind: 'sender'; envelope: Envelope }
  | { kind: 'recipient'; envelope: Envelope; recipient: Address; parameters: RecipientParameters }
  /** RFC 1985: the mail that waits for a domain is asked for. */
  | { kind: 'start-queue'; argument: string }
  | { kind: 'message'; envelope: Envelope; content: Buffer };

export type Output =
  | { kind: 'send'; text: string }
  | { kind: 'ask'; intent: Intent }
  /** The message under way is given up: whatever was reserved for it is free again. */
  | { kind: 'abandon' }
  /** Somebody tried to sign in without TLS, under that name if it was said. */
  | { kind: 'sign-in-in-clear'; user: string | null }
  /** The client spoke before it was greeted, and got this reply. */
  | { kind: 'spoke-early'; reply: Reply }
  | { kind: 'start-tls' }
  | { kind: 'close' };

export interface SessionSettings {
  hostName: string;
  service: 'inbound' | 'submission';
  maxMessageBytes: number;
  maxRecipients: number;
  tlsOffered: boolean;
  secure: boolean;
  /** What this host is reached at: its postmaster is known by them too (RFC 5321 §4.1.3). */
  addresses?: readonly string[];
  /** A client that may submit without signing in. */
  trusted?: boolean;
  /** Bounds what messages under way hold; without it each conversation is bounded by the largest message alone. */
  budget?: OctetBudget;
  overhear?: Overhear | undefined;
}

/** RFC 3848 and RFC 6531 §4.3 */
export type Protocol = 'SMTP' | `${'ESMTP' | 'UTF8SMTP'}${'' | 'S' | 'A' | 'SA'}`;

/** What the session knows of the client when it asks for a decision. */
export interface SessionFacts {
  helo: string;
  protocol: Protocol;
  secure: boolean;
  user: string | null;
}
