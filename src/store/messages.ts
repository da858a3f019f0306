import { INBOX } from '../core/mailbox/folder-names.ts';
import type { ShownMore } from '../core/pop3/shown-size.ts';
import type { Database } from './database.ts';
import { addFolder, addMessages, expungeMessages, type NewMessage } from './folders.ts';
import { takeRoom } from './mailbox-use.ts';
import { mailboxExists } from './mailboxes.ts';
import { removeOutline } from './outlines.ts';
import type { Readable } from './read-database.ts';

/** A message as POP3 needs it. */
export interface StoredMessage {
  id: number;
  file: string;
  size: number;
  prefix: string;
  journeyId: string | null;
  isJunk: 0 | 1;
}

const STORED = `SELECT m.id, m.file, m.size, m.prefix, m.journey_id AS journeyId, f.special_use IS 'junk' AS isJunk FROM message m JOIN folder f ON f.id = m.folder_id`;

const PLACES = {
  Inbox: `SELECT f.id FROM folder f JOIN mailbox m ON m.id = f.mailbox_id WHERE f.mailbox_id = ? AND f.name = '${INBOX}'`,
  Junk: "SELECT f.id FROM folder f JOIN mailbox m ON m.id = f.mailbox_id WHERE f.mailbox_id = ? AND f.special_use = 'junk'",
};
/** Where mail is put: by name for the Inbox, by its use for junk, whatever somebody calls that folder. Nowhere when the mailbox is gone. */
const findPlace = (db: Database, mailboxId: number, folder: 'Inbox' | 'Junk'): number | undefined =>
  db.one<{ id: number }>(PLACES[folder], mailboxId)?.id;

/** Puts a message into a mailbox and counts it against the quota; says why not when the mailbox is gone, or it or its domain has no room. */
export function deliverMessage(
  db: Database,
  mailboxId: number,
  folder: 'Inbox' | 'Junk',
  message: NewMessage,
): 'delivered' | 'gone' | 'mailbox' | 'domain' {
  // Somebody may have removed the folder for junk.
  let place = findPlace(db, mailboxId, folder) ?? findPlace(db, mailboxId, 'Inbox');
  if (place === undefined && !mailboxExists(db, mailboxId)) return 'gone';
  const full = takeRoom(db, mailboxId, message.size);
  if (full !== null) return full;
  place ??= addFolder(db, mailboxId, { name: INBOX, specialUse: null, keepDays: null });
  addMessages(db, place, [message]);
  return 'delivered';
}

/** Folders that POP3 shows: the Inbox, and that for junk where its owner wants it. */
export const listPopFolders = (db: Readable, mailboxId: number) =>
  db
    .all<{ id: number; isJunk: 0 | 1 }>(
      `SELECT f.id, f.special_use IS 'junk' AS isJunk FROM folder f JOIN mailbox m ON m.id = f.mailbox_id
       WHERE f.mailbox_id = ? AND (f.name = '${INBOX}' OR (f.special_use = 'junk' AND m.pop3_junk = 1))`,
      mailboxId,
    )
    .map(({ id, isJunk }) => ({ id, isJunk: isJunk === 1 }));
const SHOWN_MORE: Record<keyof ShownMore, string> = {
  plain: 's.plain',
  ascii: 's.ascii',
  plainJunk: 's.plain_junk',
  asciiJunk: 's.ascii_junk',
};
/** A part of a folder: messages after a UID, at most so many; `more` is what POP3 sends of the text more, null where nobody has counted it yet. */
export const listSizesPart = (db: Readable, folderId: number, as: keyof ShownMore, after: number, most: number) =>
  db.all<{ id: number; uid: number; size: number; prefix: string; file: string; more: number | null }>(
    `SELECT m.id, m.uid, m.size, m.prefix, m.file, ${SHOWN_MORE[as]} AS more FROM message m LEFT JOIN shown_more s ON s.id = m.outline_id
     WHERE m.folder_id = ? AND m.uid > ? ORDER BY m.uid LIMIT ?`,
    folderId,
    after,
    most,
  );
export const findStored = (db: Readable, mailboxId: number, id: number) =>
  db.one<StoredMessage>(`${STORED} WHERE f.mailbox_id = ? AND m.id = ?`, mailboxId, id);

/** The journey by which a text came here; null when somebody put it into a folder. */
export const journeyOfText = (db: Readable, file: string): string | null =>
  db.one<{ id: string }>('SELECT journey_id AS id FROM message WHERE file = ? AND journey_id IS NOT NULL LIMIT 1', file)?.id ?? null;

/** The messages that a journey has brought, wherever they were put since. */
export const storedOfJourney = (db: Readable, file: string, journeyId: string) =>
  db.all<{ id: number; mailboxId: number }>(
    'SELECT m.id, f.mailbox_id AS mailboxId FROM message m JOIN folder f ON f.id = m.folder_id WHERE m.file = ? AND m.journey_id = ?',
    file,
    journeyId,
  );

/** Takes messages out of a mailbox, and their octets off what it uses; returns how many there were. */
export function removeStored(db: Database, mailboxId: number, ids: readonly number[]): number {
  const rows = db.all<{ folderId: number; uid: number }>(
    `SELECT m.folder_id AS folderId, m.uid FROM message m JOIN folder f ON f.id = m.folder_id
     WHERE f.mailbox_id = ? AND m.id IN (SELECT value FROM json_each(?))`,
    mailboxId,
    JSON.stringify(ids),
  );
  const byFolder = new Map<number, number[]>();
  for (const { folderId, uid } of rows) byFolder.set(folderId, [...(byFolder.get(folderId) ?? []), uid]);
  let removed = 0;
  for (const [folderId, uids] of byFolder) removed += expungeMessages(db, mailboxId, folderId, uids);
  return removed;
}

/** Takes out all that lies in a mailbox, some in each commit: a hundred thousand messages would keep everybody waiting. */
export async function emptyMailbox(db: Database, mailboxId: number): Promise<void> {
  const all = await db.allSlowly<{ id: number }>(
    'SELECT m.id FROM message m JOIN folder f ON f.id = m.folder_id WHERE f.mailbox_id = ?',
    mailboxId,
  );
  await db.commitInPieces(all, (some) =>
    removeStored(
      db,
      mailboxId,
      some.map((one) => one.id),
    ),
  );
}

/** Notes which of some files nothing needs, and since when; returns those that have not been needed since before a time. */
export function noteUnneeded(db: Database, names: readonly string[], now: number, before: number): string[] {
  const old: string[] = [];
  for (const name of names) {
    if (fileInUse(db, name)) {
      db.run('DELETE FROM unneeded_text WHERE name = ?', name);
      continue;
    }
    const since = db.one<{ since: number }>('SELECT since FROM unneeded_text WHERE name = ?', name)?.since;
    if (since === undefined) db.run('INSERT INTO unneeded_text (name, since) VALUES (?, ?)', name, now);
    // A clock that was set back begins the day anew rather than ending it too soon.
    else if (since > now) db.run('UPDATE unneeded_text SET since = ? WHERE name = ?', now, name);
    else if (since <= before) old.push(name);
  }
  return old;
}
export const forgetUnneeded = (db: Database, name: string): void => {
  db.run('DELETE FROM unneeded_text WHERE name = ?', name);
  removeOutline(db, name);
};

/** Which of these files somebody needs. */
export const filesInUse = (db: Database, files: readonly string[]): string[] =>
  db
    .all<{ file: string }>(
      `SELECT f.value AS file FROM json_each(?) f WHERE EXISTS (SELECT 1 FROM message WHERE file = f.value)
       OR EXISTS (SELECT 1 FROM journey j JOIN recipient r ON r.journey_id = j.id WHERE j.file = f.value AND r.next_attempt_at IS NOT NULL)
       OR EXISTS (SELECT 1 FROM trial WHERE file = f.value)`,
      JSON.stringify(files),
    )
    .map((row) => row.file);

/** Whether anything still needs a message file: a mailbox, a message that is scored, or a recipient that is not done with. */
export const fileInUse = (db: Database, file: string): boolean =>
  db.one(
    `SELECT 1 FROM message WHERE file = ? UNION ALL SELECT 1 FROM trial WHERE file = ? UNION ALL
     SELECT 1 FROM journey j JOIN recipient r ON r.journey_id = j.id WHERE j.file = ? AND r.next_attempt_at IS NOT NULL LIMIT 1`,
    file,
    file,
    file,
  ) !== undefined;
