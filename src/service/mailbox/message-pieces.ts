import type { FolderMessage } from '../../core/mailbox/operations.ts';
import type { Range } from '../../core/mailbox/uid-set.ts';
import type { Database } from '../../store/database.ts';
import { findFolder, listMessages } from '../../store/folders.ts';

/** Messages that are changed in one commit. */
const A_PIECE = 500;

/** Reads the messages of some ranges, at most a piece at a time, and hands each piece to a commit of its own. */
export async function inPieces(
  db: Database,
  mailboxId: number,
  folderId: number,
  ranges: readonly Range[],
  act: (some: FolderMessage[]) => void,
): Promise<boolean> {
  for (const [from, to] of ranges)
    for (let next: number | null = from; next !== null; ) {
      const start: number = next;
      next = await db.commit(() => {
        if (!findFolder(db, mailboxId, folderId)) return -1;
        const some = listMessages(db, folderId, start, to, A_PIECE);
        if (some.length > 0) act(some);
        return some.length < A_PIECE ? null : (some.at(-1)?.uid ?? to) + 1;
      });
      if (next === -1) return false;
    }
  return true;
}
