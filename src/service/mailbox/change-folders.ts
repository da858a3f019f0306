import { INBOX, SEPARATOR } from '../../core/mailbox/folder-names.ts';
import type { MailboxOperation, OperationResult } from '../../core/mailbox/operations.ts';
import type { Database } from '../../store/database.ts';
import {
  addFolder,
  countFolders,
  expungeMessages,
  findFolderNamed,
  foldersBelow,
  listFolders,
  removeFolder,
  renameFolder,
} from '../../store/folders.ts';
import { countUse } from '../../store/mailbox-use.ts';
import { copyOrMove } from './copy-messages.ts';
import type { MailboxDeps } from './deps.ts';
import { inPieces } from './message-pieces.ts';
import { NO_FOLDER, refused } from './operation-refusals.ts';

const MOST_FOLDERS = 1000;

/** Folders that a name lies in, as far as they are not there, and the folder itself. */
export function create(
  db: Database,
  mailboxId: number,
  { name, specialUse }: Extract<MailboxOperation, { kind: 'create' }>,
): OperationResult {
  if (findFolderNamed(db, mailboxId, name)) return refused('exists', 'A folder of that name already exists');
  if (specialUse !== null && listFolders(db, mailboxId).some((one) => one.specialUse === specialUse))
    return refused('special-use', 'Another folder already has that purpose');
  const parts = name.split(SEPARATOR);
  const missing = parts
    .map((_part, place) => parts.slice(0, place + 1).join(SEPARATOR))
    .filter((one) => !findFolderNamed(db, mailboxId, one));
  if (countFolders(db, mailboxId) + missing.length > MOST_FOLDERS)
    return refused('too-many', `A mailbox has at most ${MOST_FOLDERS} folders`);
  let id = 0;
  for (const one of missing) id = addFolder(db, mailboxId, { name: one, specialUse: one === name ? specialUse : null, keepDays: null });
  return { kind: 'created', id };
}

/** Removes a folder with all that lies in it; what lies in folders below stays (RFC 3501 §6.3.4), so one that has such is not removed. */
export async function remove(db: Database, mailboxId: number, name: string): Promise<OperationResult> {
  if (name === INBOX) return refused('not-possible', 'The Inbox stays');
  const folder = findFolderNamed(db, mailboxId, name);
  if (!folder) return NO_FOLDER;
  if (foldersBelow(db, mailboxId, name).length > 0) return refused('has-children', 'It has subfolders; remove those first');
  await inPieces(db, mailboxId, folder.id, [[1, folder.nextUid]], (some) => {
    expungeMessages(
      db,
      mailboxId,
      folder.id,
      some.map((one) => one.uid),
    );
  });
  return db.commit(() => {
    const found = findFolderNamed(db, mailboxId, name);
    if (!found) return NO_FOLDER;
    if (found.id !== folder.id || foldersBelow(db, mailboxId, name).length > 0)
      return refused('has-children', 'It has changed in the meantime');
    // What came in between goes with it, and is not counted any more.
    countUse(db, mailboxId, { bytes: -found.bytes, messages: -found.messages });
    removeFolder(db, found.id);
    return { kind: 'done' };
  });
}

/** Gives a folder, and those below it, another name; of the Inbox what lies in it moves (RFC 3501 §6.3.5). */
export async function rename(
  context: MailboxDeps,
  mailboxId: number,
  { name, to }: Extract<MailboxOperation, { kind: 'rename' }>,
): Promise<OperationResult> {
  const { db } = context;
  if (name === INBOX) {
    const made = await db.commit(() => create(db, mailboxId, { kind: 'create', name: to, specialUse: null }));
    if (made.kind !== 'created') return made;
    const inbox = findFolderNamed(db, mailboxId, INBOX);
    if (!inbox) return NO_FOLDER;
    const moved = await copyOrMove(context, mailboxId, { kind: 'move', folder: inbox.id, uids: [[1, inbox.nextUid - 1]], to });
    return moved.kind === 'copied' ? { kind: 'done' } : moved;
  }
  return db.commit(() => {
    const folder = findFolderNamed(db, mailboxId, name);
    if (!folder) return NO_FOLDER;
    if (findFolderNamed(db, mailboxId, to)) return refused('exists', 'A folder of that name already exists');
    if (to.startsWith(name + SEPARATOR)) return refused('not-possible', 'A folder cannot be inside itself');
    const above = to.slice(0, Math.max(0, to.lastIndexOf(SEPARATOR)));
    if (above !== '' && !findFolderNamed(db, mailboxId, above)) {
      const made = create(db, mailboxId, { kind: 'create', name: above, specialUse: null });
      if (made.kind !== 'created') return made;
    }
    for (const one of foldersBelow(db, mailboxId, name)) renameFolder(db, one.id, to + one.name.slice(name.length));
    renameFolder(db, folder.id, to);
    return { kind: 'done' };
  });
}
