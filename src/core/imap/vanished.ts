import { type Range, rangesOf } from '../mailbox/uid-set.ts';
import type { FolderView } from './folder-view.ts';
import type { Mailroom } from './mailroom.ts';

/**
 * UIDs that were expunged since a mod-sequence, of those that are asked for; all where none are (RFC 7162 §3.2.6, §3.2.5.1). Whoever comes from before what
 * is remembered hears of every UID that is not there: too many are no fault, one that is left out is.
 */
export function vanishedSince(mailroom: Mailroom, view: FolderView, modseq: number, uids: readonly Range[] | null): Range[] {
  const { folder } = view;
  if (folder.forgottenModseq > modseq) return missing(view, uids ?? [[1, folder.nextUid - 1]]);
  const isWanted = (uid: number): boolean => uids === null || uids.some(([from, to]) => uid >= from && uid <= to);
  return rangesOf(mailroom.expunged(folder.id, modseq, Number.MAX_SAFE_INTEGER).filter(isWanted));
}

/** Of some UIDs those that are not there. */
function missing(view: FolderView, uids: readonly Range[]): Range[] {
  const gaps: Range[] = [];
  for (const [from, upTo] of uids) {
    const to = Math.min(upTo, view.folder.nextUid - 1);
    let next = from;
    for (let sequence = view.sequenceFrom(from); sequence <= view.count && view.uidAt(sequence) <= to; sequence += 1) {
      const uid = view.uidAt(sequence);
      if (uid > next) gaps.push([next, uid - 1]);
      next = uid + 1;
    }
    if (next <= to) gaps.push([next, to]);
  }
  return gaps;
}
