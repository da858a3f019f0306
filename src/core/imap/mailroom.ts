import type { Wanted } from '../mailbox/indexed.ts';
import type { ComposedLines, LinePiece, LineRange } from '../mailbox/lines.ts';
import type { Folder, FolderMessage, MailboxOperation, OperationResult } from '../mailbox/operations.ts';
import type { Outline } from '../mime/outline.ts';

export type Mark = Pick<FolderMessage, 'uid' | 'modseq' | 'flags' | 'keywords'>;
export type OutlinePart = Exclude<keyof Outline, 'shownMore'>;

/** One mailbox as a session sees it: what is committed is read at once, and changes are asked for. */
export interface Mailroom {
  /** The address that was signed in with. */
  readonly address: string;
  folders(): Folder[];
  folder(id: number): Folder | undefined;
  subscribed(): string[];
  /** Octets of what is marked `\\Deleted` in a folder (RFC 9208 §4.1.4). */
  deletedBytes(folder: number): number;
  /** Messages between two UIDs, both included, at most so many, the oldest first. */
  messages(folder: number, from: number, to: number, most: number): FolderMessage[];
  /** Messages with these UIDs, the oldest first. */
  messagesOf(folder: number, uids: readonly number[]): FolderMessage[];
  /**
   * UIDs of the messages that may hold what is wanted, by the folder's index, in ascending pieces: of all messages up to `upTo`, others hold it not.
   * Nothing where there is no index that could say so.
   */
  indexed(folder: number, wanted: Wanted): AsyncIterable<{ uids: number[]; upTo: number }>;
  /** A line for each message of a range, of which exactly one piece shows the sequence number. */
  lines(folder: number, range: LineRange, pieces: readonly LinePiece[]): ComposedLines;
  /** Marks of messages after a UID. */
  marks(folder: number, after: number, most: number): Mark[];
  /** Marks that changed after a mod-sequence, in its order. */
  changedMarks(folder: number, since: number, most: number): Mark[];
  /** UIDs that were expunged after a mod-sequence. */
  expunged(folder: number, since: number, most: number): number[];
  /** What is known of texts, in the parts that are asked for; what is not known yet is made from the text. Texts that are lost are left out. */
  outlines(messages: readonly FolderMessage[], parts: readonly OutlinePart[]): Promise<Map<string, Partial<Outline>>>;
  /** Octets of a text between two places; null when the text is lost. */
  slice(message: FolderMessage, from: number, to: number): Promise<Buffer | null>;
  /**
   * Does something with a whole text (null when it is lost). Large ones take turns: memory for them is bounded, and one mailbox reads
   * one at a time.
   */
  withText<T>(message: FolderMessage, work: (text: Buffer | null) => Promise<T>): Promise<T>;
  /** Those that a folder counts for; of one's own mailbox where none is named. */
  quotas(folder?: number): QuotaRoot[];
  /** Who may do what with a folder, but its owner (RFC 4314). */
  rightsOf(folder: number): { address: string; rights: string }[];
  operate(operation: MailboxOperation): Promise<OperationResult>;
}

/** A quota (RFC 9208): the mailbox's own has no name, that of all of its domain has the domain's. Null where there is no limit. */
export interface QuotaRoot {
  root: string;
  usedBytes: number;
  mostBytes: number | null;
  usedMessages: number;
  mostMessages: number | null;
}

export type SignInAnswer =
  | { kind: 'ok'; mailroom: Mailroom }
  /** The response code is one of RFC 5530. */
  | { kind: 'refused'; code: 'AUTHENTICATIONFAILED' | 'UNAVAILABLE' | 'LIMIT'; text: string };

/** What a session asks before there is a mailbox. */
export interface Doors {
  signIn(user: string, password: string): Promise<SignInAnswer>;
  /** Somebody tried to sign in without TLS, under that name if it was said. */
  signInInClear(user: string | null): void;
  /** In ms. */
  now(): number;
  /** The program that is used, as it says itself (RFC 2971). */
  program(name: string): void;
}
