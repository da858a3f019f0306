import type { Database } from './database.ts';

export interface StoredMessage {
  id: number;
  file: string;
  size: number;
  envelopeSender: string | null;
  arrivedAt: number;
  journeyId: string;
}

export interface NewStoredMessage {
  mailboxId: number;
  file: string;
  size: number;
  envelopeSender: string | null;
  folder: 'Inbox' | 'Junk';
  journeyId: string;
  at: number;
}

const STORED =
  'SELECT id, file, size, envelope_sender AS envelopeSender, arrived_at AS arrivedAt, journey_id AS journeyId FROM stored_message';

/** Puts a message into a mailbox and counts it against the quota. False when the mailbox is gone. */
export function storeMessage(db: Database, message: NewStoredMessage): boolean {
  if (db.run('UPDATE mailbox SET used_bytes = used_bytes + ? WHERE id = ?', message.size, message.mailboxId).changes === 0) return false;
  db.run(
    `INSERT INTO stored_message (mailbox_id, folder, file, size, envelope_sender, journey_id, arrived_at) VALUES (?, ?, ?, ?, ?, ?, ?)`,
    message.mailboxId,
    message.folder,
    message.file,
    message.size,
    message.envelopeSender,
    message.journeyId,
    message.at,
  );
  return true;
}

export const listInbox = (db: Database, mailboxId: number) =>
  db.allSlowly<StoredMessage>(`${STORED} WHERE mailbox_id = ? AND folder = 'Inbox' ORDER BY id`, mailboxId);
export const findStored = (db: Database, mailboxId: number, id: number) =>
  db.one<StoredMessage>(`${STORED} WHERE mailbox_id = ? AND id = ?`, mailboxId, id);

/** Takes messages out of a mailbox, and their octets off what it uses; returns how many there were. */
export function removeStored(db: Database, mailboxId: number, ids: readonly number[]): number {
  const these = JSON.stringify(ids);
  const which = 'mailbox_id = ? AND id IN (SELECT value FROM json_each(?))';
  const size = db.one<{ sum: number | null }>(`SELECT sum(size) AS sum FROM stored_message WHERE ${which}`, mailboxId, these)?.sum ?? 0;
  db.run('UPDATE mailbox SET used_bytes = max(0, used_bytes - ?) WHERE id = ?', size, mailboxId);
  return db.run(`DELETE FROM stored_message WHERE ${which}`, mailboxId, these).changes;
}

/** Takes out all that lies in a mailbox, some in each commit: a hundred thousand messages would keep everybody waiting. */
export async function emptyMailbox(db: Database, mailboxId: number): Promise<void> {
  const all = await db.allSlowly<{ id: number }>('SELECT id FROM stored_message WHERE mailbox_id = ?', mailboxId);
  await db.commitInPieces(all, (some) =>
    removeStored(
      db,
      mailboxId,
      some.map((one) => one.id),
    ),
  );
}

/** Takes away what was filed as junk before that time, so that it never fills a mailbox for good; returns how many. */
export function removeOldJunk(db: Database, before: number): number {
  const old = db.all<{ id: number; mailboxId: number }>(
    `SELECT id, mailbox_id AS mailboxId FROM stored_message WHERE folder = 'Junk' AND arrived_at < ? LIMIT 1000`,
    before,
  );
  for (const { id, mailboxId } of old) removeStored(db, mailboxId, [id]);
  return old.length;
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
export const forgetUnneeded = (db: Database, name: string) => db.run('DELETE FROM unneeded_text WHERE name = ?', name);

/** Whether anything still needs a message file: a mailbox, or a recipient that is not done with. */
/** Which of these files somebody needs. */
export const filesInUse = (db: Database, files: readonly string[]): string[] =>
  db
    .all<{ file: string }>(
      `SELECT f.value AS file FROM json_each(?) f WHERE EXISTS (SELECT 1 FROM stored_message WHERE file = f.value)
       OR EXISTS (SELECT 1 FROM journey j JOIN recipient r ON r.journey_id = j.id WHERE j.file = f.value AND r.next_attempt_at IS NOT NULL)`,
      JSON.stringify(files),
    )
    .map((row) => row.file);

export const fileInUse = (db: Database, file: string): boolean =>
  db.one(
    `SELECT 1 FROM stored_message WHERE file = ? UNION ALL
     SELECT 1 FROM journey j JOIN recipient r ON r.journey_id = j.id WHERE j.file = ? AND r.next_attempt_at IS NOT NULL LIMIT 1`,
    file,
    file,
  ) !== undefined;
