import { SEEN } from '../mailbox/flags.ts';
import { type Dialogue, mailroomOf, viewOf } from './dialogue.ts';
import type { FetchItem } from './fetch-items.ts';
import type { Mark } from './mailroom.ts';
import { ReadMarks } from './read-marks.ts';

export const asksForMarks = (items: readonly FetchItem[]): boolean => items.some((one) => one.kind === 'flags' || one.kind === 'modseq');

/** A message that is read is seen, unless somebody only peeks (RFC 3501 §6.4.5); how it is marked then. */
export async function seen(dialogue: Dialogue, mark: Mark, items: readonly FetchItem[]): Promise<Mark> {
  const view = viewOf(dialogue);
  const isRead = items.some((one) => (one.kind === 'text' || one.kind === 'binary') && !one.isPeek);
  if (!isRead || view.isReadOnly || (mark.flags & SEEN) !== 0) return mark;
  // Nobody asked how it is marked: that is told when it is.
  if (!asksForMarks(items)) {
    const { reads } = dialogue;
    dialogue.reads = reads?.folder === view.folder.id ? reads : new ReadMarks(mailroomOf(dialogue), view.folder.id);
    dialogue.reads.add(mark.uid);
    return mark;
  }
  await mailroomOf(dialogue).operate({
    kind: 'flag',
    folder: view.folder.id,
    uids: [[mark.uid, mark.uid]],
    change: 'add',
    by: { flags: SEEN, keywords: '' },
    unchangedSince: null,
  });
  await view.update();
  return view.markAt(view.sequenceOf(mark.uid));
}
