import { DELETED, SEEN } from '../core/mailbox/flags.ts';
import { type Folder, type FolderMessage, type SpecialUse, USUAL_FOLDERS } from '../core/mailbox/operations.ts';
import { ALL_RIGHTS } from '../core/mailbox/rights.ts';
import type { Database } from './database.ts';
import { countUse, type Use } from './mailbox-use.ts';
import type { Readable } from './read-database.ts';

export const FOLDER_COLUMNS = `f.id, f.name, f.special_use AS specialUse, f.uid_validity AS uidValidity, f.next_uid AS nextUid, f.highest_modseq AS highestModseq,
  f.forgotten_modseq AS forgottenModseq, f.messages, f.unseen, f.deleted, f.bytes, f.keep_days AS keepDays`;
const FOLDER = `SELECT ${FOLDER_COLUMNS}, '${ALL_RIGHTS}' AS rights FROM folder f`;

export const listFolders = (db: Readable, mailboxId: number) => db.all<Folder>(`${FOLDER} WHERE mailbox_id = ? ORDER BY name`, mailboxId);
export const findFolder = (db: Readable, mailboxId: number, id: number) =>
  db.one<Folder>(`${FOLDER} WHERE mailbox_id = ? AND id = ?`, mailboxId, id);
export const findFolderNamed = (db: Readable, mailboxId: number, name: string) =>
  db.one<Folder>(`${FOLDER} WHERE mailbox_id = ? AND name = ?`, mailboxId, name);
export const nameOfFolder = (db: Readable, id: number): string | undefined =>
  db.one<{ name: string }>('SELECT name FROM folder WHERE id = ?', id)?.name;
/** Names below a folder. */
export const foldersBelow = (db: Readable, mailboxId: number, name: string) =>
  db.all<{ id: number; name: string }>(
    `SELECT id, name FROM folder WHERE mailbox_id = ? AND name > ? || '/' AND name < ? || '0' ORDER BY name`,
    mailboxId,
    name,
    name,
  );
export const listSubscribed = (db: Readable, mailboxId: number): string[] =>
  db.all<{ name: string }>('SELECT name FROM subscription WHERE mailbox_id = ? ORDER BY name', mailboxId).map((one) => one.name);

const MESSAGE = `SELECT id, uid, modseq, flags, keywords, internal_date AS internalDate, saved_at AS savedAt, size, prefix, file, outline_id AS outlineId FROM message`;

/** Messages of a folder between two UIDs, at most so many, the oldest first. */
export const listMessages = (db: Readable, folderId: number, from: number, to: number, most: number) =>
  db.all<FolderMessage>(`${MESSAGE} WHERE folder_id = ? AND uid BETWEEN ? AND ? ORDER BY uid LIMIT ?`, folderId, from, to, most);

/** Messages of a folder with these UIDs, the oldest first. */
export const listMessagesOf = (db: Readable, folderId: number, uids: readonly number[]) =>
  db.all<FolderMessage>(
    `${MESSAGE} WHERE folder_id = ? AND uid IN (SELECT value FROM json_each(?)) ORDER BY uid`,
    folderId,
    JSON.stringify(uids),
  );

type MessageMark = Pick<FolderMessage, 'uid' | 'modseq' | 'flags' | 'keywords'>;
/** There are a hundred thousand in a folder, and a row costs twice what it costs as a part of four lists. */
function readMarks(db: Readable, chosen: string, ...values: number[]): MessageMark[] {
  const columns = db.one<Record<keyof MessageMark, string>>(
    `SELECT json_group_array(uid) AS uid, json_group_array(modseq) AS modseq, json_group_array(flags) AS flags,
       json_group_array(keywords) AS keywords FROM (SELECT uid, modseq, flags, keywords FROM message WHERE ${chosen} LIMIT ?)`,
    ...values,
  );
  const list = (name: keyof MessageMark) => JSON.parse(columns?.[name] ?? '[]');
  const [modseqs, flags, keywords]: [number[], number[], string[]] = [list('modseq'), list('flags'), list('keywords')];
  return (list('uid') as number[]).map((uid, at) => ({
    uid,
    modseq: modseqs[at] as number,
    flags: flags[at] as number,
    keywords: keywords[at] as string,
  }));
}

/** What a session keeps of each message. */
export const listMarks = (db: Readable, folderId: number, after: number, most: number): MessageMark[] =>
  readMarks(db, 'folder_id = ? AND uid > ? ORDER BY uid', folderId, after, most);
/** What was added or marked since. */
export const listChangedMarks = (db: Readable, folderId: number, since: number, most: number): MessageMark[] =>
  readMarks(db, 'folder_id = ? AND modseq > ? ORDER BY modseq, uid', folderId, since, most);
export const listExpunged = (db: Readable, folderId: number, since: number, most: number): number[] =>
  db
    .all<{ uid: number }>('SELECT uid FROM expunged WHERE folder_id = ? AND modseq > ? ORDER BY modseq, uid LIMIT ?', folderId, since, most)
    .map((one) => one.uid);

/** What the messages between two UIDs use. */
export const sumBetween = (db: Readable, folderId: number, from: number, to: number): Use =>
  db.one<Use>(
    'SELECT coalesce(sum(size), 0) AS bytes, count(*) AS messages FROM message WHERE folder_id = ? AND uid BETWEEN ? AND ?',
    folderId,
    from,
    to,
  ) ?? { bytes: 0, messages: 0 };

/** What an index needs to know of a folder. */
export interface Indexable {
  lastUid: number;
  highestModseq: number;
  forgottenModseq: number;
  messages: number;
  /** Whether the plan says that texts are indexed. */
  texts: 0 | 1;
}
export const findIndexable = (db: Readable, id: number) =>
  db.one<Indexable>(
    `SELECT f.next_uid - 1 AS lastUid, f.highest_modseq AS highestModseq, f.forgotten_modseq AS forgottenModseq, f.messages, p.index_texts AS texts
     FROM folder f JOIN kept_mailbox m ON m.id = f.mailbox_id JOIN domain d ON d.id = m.domain_id JOIN plan p ON p.id = d.plan_id WHERE f.id = ?`,
    id,
  );
export const listFolderSizes = (db: Readable, after: number, most: number) =>
  db.all<{ id: number; messages: number }>('SELECT id, messages FROM folder WHERE id > ? ORDER BY id LIMIT ?', after, most);
/** Which of these UIDs have no message. */
export const missingUids = (db: Readable, folderId: number, uids: readonly number[]): number[] =>
  db
    .all<{ uid: number }>(
      'SELECT f.value AS uid FROM json_each(?) f WHERE NOT EXISTS (SELECT 1 FROM message WHERE folder_id = ? AND uid = f.value)',
      JSON.stringify(uids),
      folderId,
    )
    .map((one) => one.uid);

/** Makes a folder, empty; its number is its UIDVALIDITY, since no folder ever has that number again. */
export function addFolder(
  db: Database,
  mailboxId: number,
  { name, specialUse, keepDays }: { name: string; specialUse: SpecialUse | null; keepDays: number | null },
): number {
  const { id } = db.run(
    'INSERT INTO folder (mailbox_id, name, special_use, keep_days, uid_validity) VALUES (?, ?, ?, ?, 0)',
    mailboxId,
    name,
    specialUse,
    keepDays,
  );
  db.run('UPDATE folder SET uid_validity = id WHERE id = ?', id);
  return id;
}

export function addUsualFolders(db: Database, mailboxId: number): void {
  for (const one of USUAL_FOLDERS) {
    addFolder(db, mailboxId, one);
    subscribe(db, mailboxId, one.name);
  }
}

export const subscribe = (db: Database, mailboxId: number, name: string) =>
  db.run('INSERT OR IGNORE INTO subscription (mailbox_id, name) VALUES (?, ?)', mailboxId, name);
export const unsubscribe = (db: Database, mailboxId: number, name: string) =>
  db.run('DELETE FROM subscription WHERE mailbox_id = ? AND name = ?', mailboxId, name);
export const renameFolder = (db: Database, id: number, name: string) =>
  db.run('UPDATE folder SET name = ?, highest_modseq = highest_modseq + 1 WHERE id = ?', name, id);
export const setKeepDays = (db: Database, id: number, days: number | null) =>
  db.run('UPDATE folder SET keep_days = ? WHERE id = ?', days, id);
export const countSubscribed = (db: Readable, mailboxId: number): number =>
  db.one<{ n: number }>('SELECT count(*) AS n FROM subscription WHERE mailbox_id = ?', mailboxId)?.n ?? 0;
export const removeFolder = (db: Database, id: number) => db.run('DELETE FROM folder WHERE id = ?', id);
export const countFolders = (db: Readable, mailboxId: number): number =>
  db.one<{ n: number }>('SELECT count(*) AS n FROM folder WHERE mailbox_id = ?', mailboxId)?.n ?? 0;

/** What changed of a folder's counts. */
interface CountChange {
  messages: number;
  unseen: number;
  deleted: number;
  bytes: number;
}

/** Notes a change of a folder's messages, and gives the mod-sequence of it, and so many new UIDs. */
function changeFolder(
  db: Database,
  id: number,
  { messages, unseen, deleted, bytes }: CountChange,
  uids = 0,
): { modseq: number; firstUid: number } {
  const row = db.run(
    `UPDATE folder SET highest_modseq = highest_modseq + 1, next_uid = next_uid + ?, messages = messages + ?, unseen = unseen + ?,
       deleted = deleted + ?, bytes = bytes + ? WHERE id = ?`,
    uids,
    messages,
    unseen,
    deleted,
    bytes,
    id,
  );
  if (row.changes === 0) throw new Error('the folder was removed meanwhile');
  const now = db.one<{ modseq: number; nextUid: number }>(
    'SELECT highest_modseq AS modseq, next_uid AS nextUid FROM folder WHERE id = ?',
    id,
  );
  return { modseq: now?.modseq ?? 0, firstUid: (now?.nextUid ?? 0) - uids };
}

export type NewMessage = Omit<FolderMessage, 'id' | 'uid' | 'modseq'> & { journeyId: string | null };

/** Puts messages into a folder, in their order, and counts them; returns the first UID and their mod-sequence. The quota is the caller's. */
export function addMessagesMarked(db: Database, folderId: number, all: readonly NewMessage[]): { firstUid: number; modseq: number } {
  const { modseq, firstUid } = changeFolder(db, folderId, countsOf(all, 1), all.length);
  for (const [place, one] of all.entries())
    db.run(
      `INSERT INTO message (folder_id, uid, modseq, flags, keywords, internal_date, saved_at, size, prefix, file, outline_id, journey_id)
       VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
      folderId,
      firstUid + place,
      modseq,
      one.flags,
      one.keywords,
      one.internalDate,
      one.savedAt,
      one.size,
      one.prefix,
      one.file,
      one.outlineId,
      one.journeyId,
    );
  return { firstUid, modseq };
}

/** The same; returns their UIDs. */
export const addMessages = (db: Database, folderId: number, all: readonly NewMessage[]): number[] => {
  const { firstUid } = addMessagesMarked(db, folderId, all);
  return all.map((_one, place) => firstUid + place);
};

function countsOf(all: readonly Pick<FolderMessage, 'flags' | 'size'>[], sign: 1 | -1): CountChange {
  const counts = { messages: 0, unseen: 0, deleted: 0, bytes: 0 };
  for (const { flags, size } of all) {
    counts.messages += sign;
    counts.bytes += sign * size;
    if ((flags & SEEN) === 0) counts.unseen += sign;
    if ((flags & DELETED) !== 0) counts.deleted += sign;
  }
  return counts;
}

/** Takes messages out of a folder for good, and remembers that they were there; what they used is free again. Returns how many there were. */
export function expungeMessages(db: Database, mailboxId: number, folderId: number, uids: readonly number[]): number {
  const these = JSON.stringify(uids);
  const rows = db.all<Pick<FolderMessage, 'uid' | 'flags' | 'size'>>(
    'SELECT uid, flags, size FROM message WHERE folder_id = ? AND uid IN (SELECT value FROM json_each(?))',
    folderId,
    these,
  );
  if (rows.length === 0) return 0;
  const counts = countsOf(rows, -1);
  const { modseq } = changeFolder(db, folderId, counts);
  db.run('DELETE FROM message WHERE folder_id = ? AND uid IN (SELECT value FROM json_each(?))', folderId, these);
  db.run(
    'INSERT INTO expunged (folder_id, modseq, uid) SELECT ?, ?, value FROM json_each(?)',
    folderId,
    modseq,
    JSON.stringify(rows.map((one) => one.uid)),
  );
  countUse(db, mailboxId, counts);
  return rows.length;
}

/** Marks messages with one new mod-sequence, which it returns; each with what it had before, for the counts. */
export function markMessages(
  db: Database,
  folderId: number,
  all: readonly { before: MessageMark; flags: number; keywords: string }[],
): number {
  const changed = (bit: number): number =>
    all.reduce((sum, { before, flags }) => sum + Number((flags & bit) !== 0) - Number((before.flags & bit) !== 0), 0);
  const { modseq } = changeFolder(db, folderId, { messages: 0, unseen: -changed(SEEN), deleted: changed(DELETED), bytes: 0 });
  for (const { before, flags, keywords } of all)
    db.run(
      'UPDATE message SET flags = ?, keywords = ?, modseq = ? WHERE folder_id = ? AND uid = ?',
      flags,
      keywords,
      modseq,
      folderId,
      before.uid,
    );
  return modseq;
}

export const deletedBytes = (db: Readable, folderId: number): number =>
  db.one<{ octets: number }>(
    `SELECT coalesce(sum(size), 0) AS octets FROM message WHERE folder_id = ? AND flags & ${DELETED} <> 0`,
    folderId,
  )?.octets ?? 0;
