import type { MailForm } from '../vocabulary.ts';

/** Whom an order meant when it was given, by number: one that goes on, or is given again, is not for another who has the name by then. */
export interface OrderPins {
  customerId: number | null;
  domainId: number | null;
  /** By address. */
  mailboxes: Record<string, number>;
  /** The newest domain there was: one that was added later is of somebody else, whatever its name. Orders of before may lack it. */
  newestDomain?: number;
}

interface Pinned {
  /** Noted when the order is checked first. */
  pins?: OrderPins;
}

/** Mail out of a backup, beside what is there. */
export interface RecoverOrder extends Pinned {
  kind: 'recover';
  /** The folder of the backups, and which one. */
  target: string;
  backup: string;
  /** An address, or a domain for all of its mailboxes. */
  whose: string;
  /** Only this folder, with those in it; null for all. */
  folder: string | null;
  /** Another mailbox that gets it; null for the one that it is of. */
  into: string | null;
  /** Also what the mailbox still has. */
  isWhole: boolean;
}

/** Mail that lies in files: an mbox, a message, a folder or an archive of those, or an export. */
export interface FilesOrder extends Pinned {
  kind: 'files';
  path: string;
  /** The mailbox that gets it; null for an export, which knows its mailboxes. */
  into: string | null;
  /** Goes below this folder; null for the top. */
  folder: string | null;
}

/** How a connection to another server is secured. */
export const IMAP_SECURITIES = ['tls', 'starttls'] as const;

/** Mail on another server, by IMAP. */
export interface ImapOrder extends Pinned {
  kind: 'imap';
  host: string;
  port: number;
  security: (typeof IMAP_SECURITIES)[number];
  /** SHA-256 of the certificate that it must have, as 64 hexadecimal digits; null where it has to be trusted and to have the host's name. */
  fingerprint: string | null;
  accounts: ImapAccount[];
  /** Whoever may sign in for everybody there (SASL PLAIN with an authorisation identity, RFC 4616); null where each has a password of their own. */
  master: { user: string; password: string } | null;
  /** Accounts at the same time. */
  atOnce: number;
  /** Octets a second, all together; 0 for no bound. */
  perSecond: number;
  /** Looked at again and again until nothing has come for so many hours; 0 for once. */
  untilQuietHours: number;
  /** Everybody signs in and the messages are counted; nothing is taken. */
  isTrial?: boolean;
}

export interface ImapAccount {
  user: string;
  password: string | null;
  /** The mailbox here. */
  into: string;
}

/** Mail and data of a mailbox, a domain or a customer, written to files. */
export interface ExportOrder extends Pinned {
  kind: 'export';
  /** The mailboxes, by domain. */
  what: 'mailbox' | 'domain' | 'customer';
  name: string;
  /** A folder that is empty or not there; with `isArchive` a file that is not there. */
  path: string;
  form: MailForm;
  isArchive: boolean;
  /** Whether password hashes go with it, for another server. */
  withHashes: boolean;
}

export type TransferOrder = RecoverOrder | FilesOrder | ImapOrder | ExportOrder;
