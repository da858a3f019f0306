import type { Database } from './database.ts';
import { removeStored } from './messages.ts';

const FOLDERS_AT_ONCE = 2000;
const IS_OUTDATED = 'f.keep_days IS NOT NULL AND m.saved_at < ? - f.keep_days * 86400000';
const REMOVED_AT_ONCE = 1000;

/**
 * Goes through all folders by their numbers, some at a time, so that nobody else who reads slowly waits for long. `act` gets the number before the first
 * and that of the last, and says whether there is more to do with these.
 */
async function overFolders(db: Database, isStopped: () => boolean, act: (after: number, last: number) => Promise<boolean>): Promise<void> {
  for (let after = 0; !isStopped(); ) {
    const [page] = await db.allSlowly<{ last: number | null }>(
      'SELECT max(id) AS last FROM (SELECT id FROM folder WHERE id > ? ORDER BY id LIMIT ?)',
      after,
      FOLDERS_AT_ONCE,
    );
    const last = page?.last ?? null;
    if (last === null) return;
    while (!isStopped() && (await act(after, last)));
    after = last;
  }
}

/** Forgets what was expunged long ago, but the newest so many of each folder; whoever knew an older state reads all anew. */
export const forgetExpunged = (db: Database, keep: number, isStopped: () => boolean): Promise<void> =>
  overFolders(db, isStopped, async (after, last) => {
    const full = await db.allSlowly<{ folderId: number }>(
      'SELECT folder_id AS folderId FROM expunged WHERE folder_id > ? AND folder_id <= ? GROUP BY folder_id HAVING count(*) > ?',
      after,
      last,
      keep,
    );
    for (const { folderId } of full) await db.commit(() => forgetExpungedOf(db, folderId, keep));
    return false;
  });

function forgetExpungedOf(db: Database, folderId: number, keep: number): void {
  const last = db.one<{ modseq: number }>(
    'SELECT modseq FROM expunged WHERE folder_id = ? ORDER BY modseq DESC LIMIT 1 OFFSET ?',
    folderId,
    keep,
  );
  if (!last) return;
  db.run('DELETE FROM expunged WHERE folder_id = ? AND modseq <= ?', folderId, last.modseq);
  db.run('UPDATE folder SET forgotten_modseq = max(forgotten_modseq, ?) WHERE id = ?', last.modseq, folderId);
}

/** Takes away what lies in a folder for longer than messages stay there; returns how many. */
export async function removeOutdated(db: Database, now: number, isStopped: () => boolean = () => false): Promise<number> {
  let removed = 0;
  await overFolders(db, isStopped, async (after, last) => {
    // There are many more messages than folders.
    const old = await db.allSlowly<{ id: number }>(
      `SELECT m.id FROM folder f CROSS JOIN message m ON m.folder_id = f.id WHERE f.id > ? AND f.id <= ? AND ${IS_OUTDATED} LIMIT ?`,
      after,
      last,
      now,
      REMOVED_AT_ONCE,
    );
    removed += await db.commitInPieces(old, (some) => removeStillOutdated(db, some, now));
    return old.length === REMOVED_AT_ONCE;
  });
  return removed;
}

/** Since it was looked at, a message may have been moved, or its folder been given a longer time. */
function removeStillOutdated(db: Database, some: readonly { id: number }[], now: number): number {
  const still = db.all<{ id: number; mailboxId: number }>(
    `SELECT m.id, f.mailbox_id AS mailboxId FROM json_each(?) o CROSS JOIN message m ON m.id = o.value JOIN folder f ON f.id = m.folder_id
     WHERE ${IS_OUTDATED}`,
    JSON.stringify(some.map((one) => one.id)),
    now,
  );
  return still.reduce((sum, { id, mailboxId }) => sum + removeStored(db, mailboxId, [id]), 0);
}
