import type { FlagChange, Flags } from './flags.ts';
import { INBOX } from './folder-names.ts';
import type { FlagMask } from './rights.ts';
import type { Range } from './uid-set.ts';

/** What a folder is for (RFC 6154); the name may be another. */
export const SPECIAL_USES = ['drafts', 'sent', 'junk', 'trash', 'archive'] as const;
export type SpecialUse = (typeof SPECIAL_USES)[number];

/** The folders that a new mailbox has, with what they are for, and how many days messages stay in them. */
export const USUAL_FOLDERS: readonly { name: string; specialUse: SpecialUse | null; keepDays: number | null }[] = [
  { name: INBOX, specialUse: null, keepDays: null },
  { name: 'Drafts', specialUse: 'drafts', keepDays: null },
  { name: 'Sent', specialUse: 'sent', keepDays: null },
  { name: 'Junk', specialUse: 'junk', keepDays: 30 },
  { name: 'Trash', specialUse: 'trash', keepDays: null },
  { name: 'Archive', specialUse: 'archive', keepDays: null },
];

export interface Folder {
  id: number;
  name: string;
  specialUse: SpecialUse | null;
  uidValidity: number;
  nextUid: number;
  highestModseq: number;
  /** What was expunged up to there is not remembered any more. */
  forgottenModseq: number;
  messages: number;
  unseen: number;
  /** Marked `\Deleted`. */
  deleted: number;
  bytes: number;
  /** How many days messages stay; null for as long as nobody removes them. */
  keepDays: number | null;
  /** What whoever looks may do with it (RFC 4314): all of it where it is one's own. */
  rights: string;
}

/** A message that somebody puts into a folder. */
export interface AppendedMessage extends Flags {
  text: Buffer;
  /** In ms. */
  internalDate: number;
}

/** Everything that changes a mailbox, done by the service alone, in the shared commit. Folders and messages are those of one mailbox. */
export type MailboxOperation =
  /** `unchangedSince`: messages whose mod-sequence is higher are left alone (RFC 7162 §3.1.3). */
  | { kind: 'flag'; folder: number; uids: Range[]; change: FlagChange; by: Flags; unchangedSince: number | null; mask?: FlagMask }
  | { kind: 'copy' | 'move'; folder: number; uids: Range[]; to: string }
  /** All of them or none; `instead`: a message that goes when they have come (RFC 8508). */
  | { kind: 'append'; to: string; messages: AppendedMessage[]; instead: { folder: number; uid: number } | null }
  /** Those marked `\Deleted`, all or of some. */
  | { kind: 'expunge'; folder: number; uids: Range[] | null }
  /** By POP3: by their own numbers, whatever they are marked with. */
  | { kind: 'remove'; ids: number[] }
  | { kind: 'create'; name: string; specialUse: SpecialUse | null }
  | { kind: 'delete'; name: string }
  | { kind: 'rename'; name: string; to: string }
  | { kind: 'subscribe'; name: string; isOn: boolean }
  /** What somebody else may do with a folder (RFC 4314 §3.1); `who` is an address. */
  | { kind: 'grant'; name: string; who: string; how: 'add' | 'remove' | 'replace'; rights: string };

/** Why an operation is not done; each is a response code of RFC 5530 or of the extension. */
export type OperationRefusal =
  | 'no-folder'
  | 'exists'
  | 'over-quota'
  | 'not-possible'
  | 'special-use'
  | 'has-children'
  | 'too-many'
  | 'no-right'
  | 'unavailable';

export type OperationResult =
  /** `messages`: how many it was done to, where that is known. */
  | { kind: 'done'; messages?: number }
  /** Those that were left alone, by UID. */
  | { kind: 'flagged'; leftAlone: Range[] }
  /** The UIDs there, in the order of those here; messages that were gone are in neither. */
  | { kind: 'copied'; uidValidity: number; from: number[]; to: number[] }
  | { kind: 'appended'; uidValidity: number; uids: number[] }
  | { kind: 'created'; id: number }
  | { kind: 'refused'; why: OperationRefusal; text: string };

/** A message of a folder, with all that is kept in its row. */
export interface FolderMessage extends Flags {
  id: number;
  uid: number;
  modseq: number;
  /** In ms. */
  internalDate: number;
  savedAt: number;
  /** Octets, the prefix included. */
  size: number;
  /** What stands before the shared text in this mailbox: its Return-Path. */
  prefix: string;
  file: string;
  /** What is known of the text, by number; null when nothing is yet. */
  outlineId: number | null;
}
