import type { Range } from '../mailbox/uid-set.ts';
import type { FolderView } from './folder-view.ts';
import type { Doors, Mailroom } from './mailroom.ts';
import type { ReadMarks } from './read-marks.ts';
import type { Tokens } from './tokens.ts';

export interface SessionSettings {
  hostName: string;
  version: string;
  tlsOffered: boolean;
  /** The largest message that may be put into a folder, in octets (RFC 7889). */
  maxMessageBytes: number;
}

/** Where a session gives its answers; resolves when there is room for more. */
export type Write = (octets: string | Buffer) => Promise<void>;

/** What the commands of one session look at and change. */
export interface Dialogue {
  readonly settings: SessionSettings;
  readonly doors: Doors;
  isSecure: boolean;
  mailroom: Mailroom | null;
  view: FolderView | null;
  /** What was read in that folder and is not written down as seen yet. */
  reads: ReadMarks | null;
  /** What the client has asked for by ENABLE or otherwise: CONDSTORE, QRESYNC, UTF8=ACCEPT, IMAP4REV2. */
  readonly enabled: Set<string>;
  /** UIDs that SEARCH has kept (RFC 5182). */
  saved: Range[];
  isCompressed: boolean;
  isEnded: boolean;
  /** Of the command under way. */
  tag: string;
  /** Whether the command under way may hold so many octets more than what was sent with it, of what all sessions of the process may hold together. */
  mayHold(octets: number): boolean;
}

/** How a command ends: OK, NO or BAD with words, and a response code before them. */
export interface Ending {
  kind: 'OK' | 'NO' | 'BAD';
  /** Without brackets. */
  code?: string | undefined;
  text: string;
}
export const ok = (text = 'Done', code?: string): Ending => ({ kind: 'OK', text, code });
export const no = (text: string, code?: string): Ending => ({ kind: 'NO', text, code });
export const bad = (text: string): Ending => ({ kind: 'BAD', text });

/** The tagged line by which a command ends (RFC 9051 §7.1). */
export const endingLine = (tag: string, { kind, code, text }: Ending): string =>
  `${tag} ${kind} ${code === undefined ? '' : `[${code}] `}${text}\r\n`;

/** When a command may come (RFC 3501 §3). */
export type When = 'any' | 'not-signed-in' | 'signed-in' | 'selected';

/** Why a command may not come now; null when it may. */
export function whyNotNow({ mailroom, view }: Dialogue, when: When): string | null {
  if (when === 'not-signed-in') return mailroom ? 'You are already signed in' : null;
  if (when === 'signed-in') return mailroom ? null : 'Sign in first';
  if (when === 'selected') return view ? null : mailroom ? 'Select a folder first' : 'Sign in first';
  return null;
}

/** One command: how its words are read, when it may come, and what it does. */
export interface Command<Asked = unknown> {
  when: When;
  /** Whether sequence numbers may change before it ends: not while a client counts on them (RFC 3501 §7.4.1). */
  mayExpunge: boolean;
  read(tokens: Tokens, dialogue: Dialogue): Asked;
  run(dialogue: Dialogue, asked: Asked, write: Write): Promise<Ending>;
}

/** Ties what is read to what is run. */
export const command = <Asked>(
  when: When,
  read: (tokens: Tokens, dialogue: Dialogue) => Asked,
  run: (dialogue: Dialogue, asked: Asked, write: Write) => Promise<Ending> | Ending,
  { mayExpunge = true }: { mayExpunge?: boolean } = {},
): Command => ({
  when,
  mayExpunge,
  read: read as Command['read'],
  run: async (dialogue, asked, write) => run(dialogue, asked as Asked, write),
});

/** For a command without arguments. */
export const nothing = (tokens: Tokens): void => tokens.end();

/** The mailbox of a session that is signed in. */
export const mailroomOf = (dialogue: Dialogue): Mailroom => {
  if (!dialogue.mailroom) throw new Error('nobody is signed in');
  return dialogue.mailroom;
};
export const viewOf = (dialogue: Dialogue): FolderView => {
  if (!dialogue.view) throw new Error('no folder is selected');
  return dialogue.view;
};

/** RFC 6855, RFC 9051: names and headers may be UTF-8. */
export const isUtf8 = ({ enabled }: Dialogue): boolean => enabled.has('UTF8=ACCEPT') || enabled.has('IMAP4REV2');
export const hasCondstore = ({ enabled }: Dialogue): boolean => enabled.has('CONDSTORE') || enabled.has('QRESYNC');
