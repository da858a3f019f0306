import type { Flags } from '../mailbox/flags.ts';
import type { SpecialUse } from '../mailbox/operations.ts';

/** A message that is to be put into a mailbox. */
export interface CarriedMessage extends Flags {
  /** Its Return-Path; empty where it has none. */
  prefix: string;
  /** The rest. */
  text: Buffer;
  /** SHA-256 of the text, and of all of it with its Return-Path: whoever reads it works that out, since a large one takes its time. */
  file: string;
  whole: string;
  /** In ms; null for now. */
  internalDate: number | null;
  /** By which it is known where it comes from; null where only its text tells. */
  key: string | null;
  /** Which one of the same text it is in its folder, from 1 on. */
  copy: number;
}

/** What a mailbox is to be like when it is not there and has to be made. */
export interface CarriedMailbox {
  name: string | null;
  passwordHash: string;
  quotaBytes: number;
  quotaMessages: number | null;
  isShared: boolean;
}

/** What became of some messages that were put. */
export interface PutResult {
  taken: number;
  known: number;
  octets: number;
  /** Why the rest was not taken, such as a full mailbox; null when all is well. */
  refused: string | null;
}

/** How far a mailbox has come. */
export interface CarryState {
  /** Messages that were looked at, those that were known beforehand among them, of all. */
  done: number;
  known: number;
  total: number;
  folder: string;
  /** Of an export: what is in files. */
  written?: { messages: number; octets: number };
}

/** A message by its key, with its flags. */
export interface FollowedMark extends Flags {
  key: string;
}

/** Where messages go that come from elsewhere: a mailbox here, in the service. Each method may wait, for room as well. */
export interface Sink {
  /** Opens a mailbox; one that is not there is made as `missing` says. Returns its number and whether it was made, or why it can’t be. */
  open(address: string, missing: CarriedMailbox | null): Promise<{ part: number; isNew: boolean } | { refused: string }>;
  /** Which of the messages with these keys were taken before. */
  known(part: number, keys: readonly string[]): Promise<boolean[]>;
  /** Puts messages of one folder; the folder is made when it is not there. */
  put(part: number, folder: CarriedFolder, messages: readonly CarriedMessage[]): Promise<PutResult>;
  /** What messages that were taken before are marked with by now. */
  follow(part: number, marks: readonly FollowedMark[]): Promise<number>;
  progress(part: number, state: CarryState): void;
  /** Something is not taken. */
  leftOut(part: number, folder: string, what: string, why: string): void;
  /** A mailbox is over; `fault` says what kept it from being whole. */
  close(part: number, fault: string | null): void;
}

export interface CarriedFolder {
  name: string;
  /** Where a folder for that purpose is there already, it takes the messages. */
  specialUse: SpecialUse | null;
}
