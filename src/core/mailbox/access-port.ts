import type { Outline } from '../mime/outline.ts';
import type { MessageReading } from '../trial/reading.ts';
import type { MailboxOperation, OperationResult } from './operations.ts';

export type AccessService = 'IMAP' | 'POP3';

export interface SignInQuestion {
  service: AccessService;
  user: string;
  password: string;
  clientAddress: string;
}

export type SignInReply =
  /** `session` names it from here on. */
  | { kind: 'ok'; session: number; mailboxId: number; address: string }
  | { kind: 'wrong' }
  | { kind: 'busy' }
  | { kind: 'too-many' }
  | { kind: 'in-use' }
  | { kind: 'held'; seconds: number };

/** What the side that speaks to mail programs asks of the service, which alone decides and writes. */
export interface AccessPort {
  signIn(question: SignInQuestion): Promise<SignInReply>;
  /** In the mailbox of that session; resolves when it is on disk. */
  operate(session: number, operation: MailboxOperation): Promise<OperationResult>;
  leave(session: number): void;
  /** The program that a session uses, as it says itself. */
  program(session: number, name: string): void;
  /** What was found out about texts of which nothing was known. */
  keepOutlines(some: readonly { file: string; outline: Outline }[]): void;
  /** What was found in a message that was to be read; null where it is gone. */
  wasRead(call: number, reading: MessageReading | null): void;
  textLost(session: number, file: string, how: 'gone' | 'cut short'): void;
  /** Somebody tried to sign in without TLS, under that name if it was said. */
  signInInClear(service: AccessService, clientAddress: string, user: string | null): void;
  tlsFailed(service: AccessService, clientAddress: string, reason: string): void;
}

/** A text that lies in a mailbox now. */
export interface ArrivedText {
  file: string;
  /** In octets, without what stands before it in one mailbox. */
  size: number;
}

/** What the service tells that side. */
export interface AccessListener {
  /** Something in these folders has changed, or they are gone. */
  changed(folders: readonly number[]): void;
  /** Texts have come of which nothing is known yet: one who hears this finds it out, and has it kept. */
  arrived(texts: readonly ArrivedText[]): void;
  /** Folders whose index is to follow what has changed, or all: only one who hears `changed` is told so, and does it for all. */
  index(folders: readonly number[] | 'all'): void;
  /** A message that came at `at` is to be scored: one who hears this reads it. */
  read(call: number, text: ArrivedText, at: number): void;
  /** A session ends now, since what it signed in with has changed. */
  end(session: number): void;
}
