import { flagNames } from '../../mailbox/flags.ts';
import { SEPARATOR } from '../../mailbox/folder-names.ts';
import { type Range, rangesText } from '../../mailbox/uid-set.ts';
import { command, type Dialogue, type Ending, hasCondstore, mailroomOf, no, nothing, ok, viewOf, type Write } from '../dialogue.ts';
import { FolderView } from '../folder-view.ts';
import { folderNameText } from '../names.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';
import { vanishedSince } from '../vanished.ts';
import { folderArgument } from './folders.ts';
import { refusal } from './refused.ts';

/** What a client that was here before knows (RFC 7162 §3.2.5). */
interface Known {
  uidValidity: number;
  modseq: number;
  uids: Range[] | null;
}

interface SelectAsked {
  name: string | null;
  isCondstore: boolean;
  known: Known | null;
}

function readSelect(tokens: Tokens, dialogue: Dialogue): SelectAsked {
  const asked: SelectAsked = { name: folderArgument(tokens, dialogue), isCondstore: false, known: null };
  if (!tokens.isAtEnd) {
    tokens.space();
    tokens.list(() => {
      const option = tokens.word();
      if (option === 'CONDSTORE') asked.isCondstore = true;
      else if (option === 'QRESYNC') {
        if (!dialogue.enabled.has('QRESYNC')) throw new SyntaxFault('ENABLE QRESYNC first');
        tokens.space();
        asked.known = readKnown(tokens);
      } else throw new SyntaxFault(`${option.slice(0, 40)} is not a SELECT option`);
    });
    tokens.end();
  }
  return asked;
}

function readKnown(tokens: Tokens): Known {
  tokens.expect('(');
  const uidValidity = tokens.number();
  tokens.space();
  const modseq = tokens.modseq();
  let uids: Range[] | null = null;
  while (!tokens.take(')')) {
    tokens.space();
    // The pairs of sequence numbers and UIDs only help servers that have forgotten what was expunged (§3.2.5.2).
    if (tokens.peek() === '(') tokens.list(() => tokens.sequenceSet());
    else {
      const set = tokens.sequenceSet();
      if (set === '$') throw new SyntaxFault('A set of UIDs is missing');
      uids = set;
    }
  }
  return { uidValidity, modseq, uids };
}

async function open(dialogue: Dialogue, { name, isCondstore, known }: SelectAsked, write: Write, toRead: boolean): Promise<Ending> {
  const mailroom = mailroomOf(dialogue);
  // RFC 3501 §6.3.1: what was selected is so no longer, whatever becomes of this one.
  const wasOpen = dialogue.view !== null;
  dialogue.view = null;
  dialogue.saved = [];
  const folder = mailroom.folders().find((one) => one.name === name);
  if (wasOpen) await write('* OK [CLOSED] The selected folder is closed\r\n');
  if (!folder) return no('There is no such folder', 'NONEXISTENT');
  if (!folder.rights.includes('r')) return no('You do not have the right to read that folder', 'NOPERM');
  // Who may change nothing there has it open for reading (RFC 4314 §5.2).
  const isReadOnly = toRead || !/[swite]/.test(folder.rights);
  if (isCondstore || known) dialogue.enabled.add('CONDSTORE');
  const view = await FolderView.open(mailroom, folder, isReadOnly);
  const flags = view.flagsText();
  await write(
    [
      `* ${view.count} EXISTS\r\n`,
      // RFC 9051 §6.3.2: the folder by its name, and nothing of what is recent.
      dialogue.enabled.has('IMAP4REV2') ? `* LIST () "${SEPARATOR}" ${folderNameText(folder.name, true)}\r\n` : '* 0 RECENT\r\n',
      flags,
      `* OK [PERMANENTFLAGS (${isReadOnly ? '' : permanentFlags(flags.slice(9, -3), folder.rights)})] ${isReadOnly ? 'Nothing can be changed' : 'These stay'}\r\n`,
      dialogue.enabled.has('IMAP4REV2') ? '' : firstUnseen(view),
      `* OK [UIDVALIDITY ${folder.uidValidity}] As long as this stays, UIDs mean the same\r\n`,
      `* OK [UIDNEXT ${folder.nextUid}] The next message\r\n`,
      `* OK [HIGHESTMODSEQ ${folder.highestModseq}] The last change\r\n`,
      `* OK [MAILBOXID (F${folder.id})] This folder\r\n`,
    ].join(''),
  );
  dialogue.view = view;
  if (known && known.uidValidity === folder.uidValidity) await resynchronise(dialogue, known, write);
  return ok(isReadOnly ? 'Opened for reading' : 'Opened', isReadOnly ? 'READ-ONLY' : 'READ-WRITE');
}

/** Flags that may be changed for good; new keywords, too, where all but two may be (RFC 4314 §5.2). */
const permanentFlags = (known: string, rights: string): string =>
  [
    ...known.split(' ').filter((one) => rights.includes(one === '\\Seen' ? 's' : one === '\\Deleted' ? 't' : 'w')),
    ...(rights.includes('w') ? ['\\*'] : []),
  ].join(' ');

/** RFC 3501 §7.1: by sequence number. RFC 9051 has done away with it, and nobody minds. */
function firstUnseen(view: FolderView): string {
  for (let sequence = 1; sequence <= view.count; sequence += 1)
    if ((view.markAt(sequence).flags & 1) === 0) return `* OK [UNSEEN ${sequence}] The first that was not seen\r\n`;
  return '';
}

/** What has gone and what has changed since the client was here (RFC 7162 §3.2.5.1). */
async function resynchronise(dialogue: Dialogue, { modseq, uids }: Known, write: Write): Promise<void> {
  const view = viewOf(dialogue);
  const isWanted = (uid: number): boolean => uids === null || uids.some(([from, to]) => uid >= from && uid <= to);
  const gone = vanishedSince(mailroomOf(dialogue), view, modseq, uids);
  if (gone.length > 0) await write(`* VANISHED (EARLIER) ${rangesText(gone)}\r\n`);
  for (let sequence = 1; sequence <= view.count; sequence += 1) {
    const mark = view.markAt(sequence);
    if (mark.modseq > modseq && isWanted(mark.uid))
      await write(`* ${sequence} FETCH (UID ${mark.uid} FLAGS (${flagNames(mark)}) MODSEQ (${mark.modseq}))\r\n`);
  }
}

/** RFC 3501 §6.3.1 */
export const select = command('signed-in', readSelect, (dialogue, asked, write) => open(dialogue, asked, write, false));
/** RFC 3501 §6.3.2 */
export const examine = command('signed-in', readSelect, (dialogue, asked, write) => open(dialogue, asked, write, true));

/** RFC 3501 §6.4.2: what is marked as deleted goes, and nothing is said of it. */
export const close = command('selected', nothing, async (dialogue) => {
  const { folder, isReadOnly } = viewOf(dialogue);
  if (!isReadOnly && folder.rights.includes('e')) {
    const result = await mailroomOf(dialogue).operate({ kind: 'expunge', folder: folder.id, uids: null });
    if (result.kind === 'refused') return refusal(result);
  }
  const code = dialogue.enabled.has('QRESYNC') ? highest(dialogue) : undefined;
  dialogue.view = null;
  dialogue.saved = [];
  return ok('Closed', code);
});

/** RFC 3691 */
export const unselect = command('selected', nothing, (dialogue) => {
  dialogue.view = null;
  dialogue.saved = [];
  return ok('Closed');
});

/** RFC 7162 §3.2.7 */
export const highest = (dialogue: Dialogue): string | undefined => {
  const folder = dialogue.view && mailroomOf(dialogue).folder(dialogue.view.folder.id);
  return folder && hasCondstore(dialogue) ? `HIGHESTMODSEQ ${folder.highestModseq}` : undefined;
};
