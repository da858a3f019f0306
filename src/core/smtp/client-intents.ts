import type { MailContent } from '../message/mail-content.ts';
import type { Overhear } from '../overhear.ts';
import type { TlsMode } from '../vocabulary.ts';

/** A reply that another server gave, its lines joined. */
export interface RemoteReply {
  code: number;
  text: string;
}

export type ClientOutput =
  | { kind: 'send'; bytes: Buffer }
  /** The message goes, through `MultiLine` to its dot; what is sent afterwards follows it. */
  | { kind: 'send-text'; content: MailContent }
  | { kind: 'start-tls' }
  /** A step that went well, for whoever watches. */
  | { kind: 'step'; step: ClientStage; text: string }
  | { kind: 'ready' }
  /** `dsn`: the server took over what was asked for reports (RFC 3461). */
  | { kind: 'finished'; outcomes: RecipientOutcome[]; dsn: boolean }
  /** The conversation can't go on: nothing more may be sent on it. */
  | { kind: 'broken'; reply: RemoteReply | null; reason: string };

/** Where a conversation is, as people name it. */
export type ClientStage = 'greeting' | 'hello' | 'tls' | 'sign-in' | 'message';

export interface RecipientOutcome {
  recipient: string;
  kind: 'taken' | 'later' | 'never';
  reply: RemoteReply;
}

interface EnvelopeRecipient {
  address: string;
  /** As RCPT says it (RFC 3461 §4.1, §4.2). */
  notify: string | null;
  original: string | null;
}

export interface Envelope {
  sender: string | null;
  recipients: readonly EnvelopeRecipient[];
  /** Null only asks whether the recipients would be taken. */
  content: MailContent | null;
  /** Whether the message itself was submitted under SMTPUTF8. */
  smtputf8: boolean;
  returnContent: string | null;
  envelopeId: string | null;
}

export interface ClientOptions {
  heloName: string;
  /** `implicit`: TLS began with the connection. */
  tls: TlsMode;
  credentials: { user: string; password: string } | null;
  overhear?: Overhear | undefined;
}

export type WireStep =
  | 'greeting'
  | 'ehlo'
  | 'helo'
  | 'start-tls'
  | 'tls'
  | 'sign-in'
  | 'sign-in-user'
  | 'idle'
  | 'mail'
  | 'recipients'
  | 'data'
  | 'content'
  | 'reset'
  | 'broken';
