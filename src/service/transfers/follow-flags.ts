import type { FollowedMark } from '../../core/transfer/sink.ts';
import { markMessages } from '../../store/folders.ts';
import { noteFollowed, type Untouched, untouchedOf } from '../../store/transfers.ts';
import type { MailboxDeps } from '../mailbox/deps.ts';

/**
 * Messages that were taken before get the flags that they have by now where they come from: what was read there is read here. Whatever somebody
 * here has marked or moved stays as it is. Returns how many were marked.
 */
export function followFlags({ db }: MailboxDeps, mailboxId: number, marks: readonly FollowedMark[]): Promise<number> {
  const wanted = new Map(marks.map((one) => [one.key, one]));
  const changesOf = (): [Untouched, FollowedMark][] =>
    untouchedOf(db, mailboxId, [...wanted.keys()]).flatMap((one) => {
      const mark = wanted.get(one.key);
      return mark && (mark.flags !== one.flags || mark.keywords !== one.keywords) ? [[one, mark]] : [];
    });
  // Most passes find nothing: no commit for that.
  if (changesOf().length === 0) return Promise.resolve(0);
  return db.commit(() => {
    const changes = changesOf();
    for (const folderId of new Set(changes.map(([one]) => one.folderId))) {
      const here = changes.filter(([one]) => one.folderId === folderId);
      const modseq = markMessages(
        db,
        folderId,
        here.map(([before, { flags, keywords }]) => ({ before, flags, keywords })),
      );
      noteFollowed(
        db,
        mailboxId,
        here.map(([one]) => one.key),
        modseq,
      );
    }
    return changes.length;
  });
}
