import { flagNames } from '../mailbox/flags.ts';
import { type Dialogue, mailroomOf, viewOf } from './dialogue.ts';
import type { FetchItem } from './fetch-items.ts';
import type { Mark, SketchColumn } from './mailroom.ts';

const SKETCHED: Partial<Record<FetchItem['kind'], string>> = {
  'internal-date': 'INTERNALDATE',
  size: 'RFC822.SIZE',
  envelope: 'ENVELOPE',
  body: 'BODY',
  'body-structure': 'BODYSTRUCTURE',
};

/** The answers for messages of which only what lists show is asked, read together; null when that is not enough, or something is missing. */
export function sketches(dialogue: Dialogue, marks: readonly Mark[], items: readonly FetchItem[]): string | null {
  if (!items.every(({ kind }) => kind === 'uid' || kind === 'flags' || kind === 'modseq' || SKETCHED[kind] !== undefined)) return null;
  const view = viewOf(dialogue);
  const columns = items.flatMap(({ kind }) => (SKETCHED[kind] === undefined ? [] : [kind as SketchColumn]));
  const { uids, values } = mailroomOf(dialogue).sketches(view.folder.id, marks[0]?.uid ?? 0, marks.at(-1)?.uid ?? 0, columns);
  if (values === null || uids !== marks.map((one) => one.uid).join()) return null;
  let at = 0;
  let sequence = view.sequenceOf(marks[0]?.uid ?? 0);
  const said: string[] = [];
  for (const mark of marks) {
    if (view.uidAt(sequence) !== mark.uid) sequence = view.sequenceOf(mark.uid);
    let text = `* ${sequence} FETCH (`;
    for (const [place, item] of items.entries()) {
      if (place > 0) text += ' ';
      const name = SKETCHED[item.kind];
      if (name === undefined) text += markText(item, mark);
      else {
        text += item.kind === 'internal-date' ? `${name} "${internalDate(Number(values[at]))}"` : `${name} ${values[at]}`;
        at += 1;
      }
    }
    said.push(text, ')\r\n');
    sequence += 1;
  }
  if (items.some((one) => one.kind === 'flags')) for (const { uid } of marks) view.forgetMark(uid);
  return said.join('');
}

export function markText({ kind }: FetchItem, mark: Mark): string {
  if (kind === 'uid') return `UID ${mark.uid}`;
  if (kind === 'modseq') return `MODSEQ (${mark.modseq})`;
  return `FLAGS (${flagNames(mark)})`;
}

const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];
/** RFC 3501 §9, date-time: in UTC. */
export function internalDate(ms: number): string {
  const date = new Date(ms);
  const two = (number: number): string => String(number).padStart(2, '0');
  return `${two(date.getUTCDate())}-${MONTHS[date.getUTCMonth()]}-${date.getUTCFullYear()} ${two(date.getUTCHours())}:${two(date.getUTCMinutes())}:${two(date.getUTCSeconds())} +0000`;
}
