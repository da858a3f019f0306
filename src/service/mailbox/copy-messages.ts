import type { FolderMessage, MailboxOperation, OperationResult } from '../../core/mailbox/operations.ts';
import { type FlagMask, masked } from '../../core/mailbox/rights.ts';
import type { Range } from '../../core/mailbox/uid-set.ts';
import { addMessages, expungeMessages, findFolder, findFolderNamed, type NewMessage, sumBetween } from '../../store/folders.ts';
import { countUse } from '../../store/mailbox-use.ts';
import type { MailboxDeps } from './deps.ts';
import { inPieces } from './message-pieces.ts';
import { NO_FOLDER } from './operation-refusals.ts';
import { refusedForRoom } from './room.ts';

const NO_FLAGS = { flags: 0, keywords: '' };
/** With its flags, as far as whoever copies may set them there (RFC 4314 §4). */
const copied = (one: FolderMessage, now: number, mask: FlagMask | null): NewMessage => ({
  ...one,
  ...(mask ? masked(NO_FLAGS, one, mask) : {}),
  savedAt: now,
  journeyId: null,
});

/** Puts messages into another folder too, or moves them there: then each piece is here or there, never both and never neither. */
export async function copyOrMove(
  { db, clock }: MailboxDeps,
  mailboxId: number,
  { kind, folder, uids, to }: Extract<MailboxOperation, { kind: 'copy' | 'move' }>,
  /** Another mailbox that they go to, and the flags that may be set there. */
  { targetMailbox = mailboxId, mask = null }: { targetMailbox?: number; mask?: FlagMask | null } = {},
): Promise<OperationResult> {
  const target = findFolderNamed(db, targetMailbox, to);
  if (!target) return NO_FOLDER;
  // A copy is all or nothing (RFC 3501 §6.4.7): what does not fit is not begun. Moving within a mailbox needs no room.
  if (kind === 'copy' || targetMailbox !== mailboxId) {
    const use = { bytes: 0, messages: 0 };
    for (const [from, upTo] of uids) {
      const { bytes, messages } = sumBetween(db, folder, from, upTo);
      use.bytes += bytes;
      use.messages += messages;
    }
    const full = refusedForRoom(db, targetMailbox, use);
    if (full) return full;
  }
  const [from, there]: [number[], number[]] = [[], []];
  // A folder that gets its own messages must not meet them again.
  const last = (findFolder(db, mailboxId, folder)?.nextUid ?? 1) - 1;
  const clipped = uids.filter(([first]) => first <= last).map(([first, upTo]): Range => [first, Math.min(upTo, last)]);
  const isThere = await inPieces(db, mailboxId, folder, clipped, (some) => {
    const now = clock.now();
    const own = some.map((one) => one.uid);
    there.push(
      ...addMessages(
        db,
        target.id,
        some.map((one) => copied(one, now, mask)),
      ),
    );
    countUse(db, targetMailbox, { bytes: some.reduce((sum, one) => sum + one.size, 0), messages: some.length });
    if (kind === 'move') expungeMessages(db, mailboxId, folder, own);
    from.push(...own);
  });
  return isThere ? { kind: 'copied', uidValidity: target.uidValidity, from, to: there } : NO_FOLDER;
}
