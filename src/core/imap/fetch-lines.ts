import { flagNames } from '../mailbox/flags.ts';
import type { LineColumn, LinePiece, LineRange } from '../mailbox/lines.ts';
import { type Dialogue, mailroomOf, viewOf } from './dialogue.ts';
import type { FetchItem } from './fetch-items.ts';
import type { FolderView } from './folder-view.ts';
import type { Mark } from './mailroom.ts';

/** Answers that a line can hold, in the order in which they are given: a client may ask in any, and each order would be another question to the database. */
const SHOWN: [kind: LineColumn & FetchItem['kind'], before: string, after: string][] = [
  ['uid', 'UID ', ''],
  ['modseq', 'MODSEQ (', ')'],
  ['flags', 'FLAGS (', ')'],
  ['internal-date', 'INTERNALDATE "', '"'],
  ['size', 'RFC822.SIZE ', ''],
  ['envelope', 'ENVELOPE ', ''],
  ['body', 'BODY ', ''],
  ['body-structure', 'BODYSTRUCTURE ', ''],
];
const CAN_BE_SHOWN = new Set<FetchItem['kind']>(SHOWN.map(([kind]) => kind));

/** Messages of a run at least: shorter ones are cheaper to number one after the other than to ask for by themselves. */
const A_RUN = 10;

/**
 * The answers for messages, composed by the database; null when more is asked than lines hold, when something is missing, or when the client was told
 * otherwise of some of them.
 */
export function fetchLines(dialogue: Dialogue, marks: readonly Mark[], items: readonly FetchItem[]): Buffer | null {
  if (!items.every(({ kind }) => CAN_BE_SHOWN.has(kind))) return null;
  const view = viewOf(dialogue);
  const ranges = rangesOfMarks(view, marks);
  if (ranges === null) return null;
  const shown = SHOWN.filter(([kind]) => items.some((one) => one.kind === kind));
  // Each piece costs the database something: what stands between two columns is one.
  const pieces: LinePiece[] = [{ text: '* ' }, { column: 'sequence' }];
  let between = ' FETCH (';
  for (const [kind, before, after] of shown) {
    pieces.push({ text: `${between}${before}` }, { column: kind });
    between = `${after} `;
  }
  pieces.push({ text: `${between.trimEnd()})\r\n` });
  const composed = ranges.map((range) => mailroomOf(dialogue).lines(view.folder.id, range, pieces));
  if (composed.reduce((sum, one) => sum + one.messages, 0) !== marks.length) return null;
  if (!composed.every((one) => one.octets !== null && one.modseq <= view.modseq)) return null;
  if (shown.some(([kind]) => kind === 'flags')) for (const { uid } of marks) view.forgetMark(uid);
  const [only, ...others] = composed.flatMap((one) => one.octets ?? []);
  return only && others.length === 0 ? only : Buffer.concat([...(only ? [only] : []), ...others]);
}

/** Runs of UIDs without a gap, or one range when these are short; null when some between them are not meant. */
function rangesOfMarks(view: FolderView, marks: readonly Mark[]): LineRange[] | null {
  const runs: LineRange[] = [];
  let sequence = view.sequenceOf(marks[0]?.uid ?? 0);
  for (const { uid } of marks) {
    if (view.uidAt(sequence) !== uid) return null;
    const run = runs.at(-1);
    if (run && run.to === uid - 1) run.to = uid;
    else runs.push({ from: uid, to: uid, first: sequence, isDense: true });
    sequence += 1;
  }
  const [oldest, newest] = [runs[0], runs.at(-1)];
  if (!oldest || !newest || runs.length === 1 || runs.length * A_RUN <= marks.length) return runs;
  return [{ ...oldest, to: newest.to, isDense: false }];
}

export function markText({ kind }: FetchItem, mark: Mark): string {
  if (kind === 'uid') return `UID ${mark.uid}`;
  if (kind === 'modseq') return `MODSEQ (${mark.modseq})`;
  return `FLAGS (${flagNames(mark)})`;
}

/** The answers for messages of which only what the session knows anyway is asked. */
export function markLines(view: FolderView, marks: readonly Mark[], items: readonly FetchItem[]): string {
  const tellsFlags = items.some(({ kind }) => kind === 'flags');
  let sequence = view.sequenceOf(marks[0]?.uid ?? 0);
  let text = '';
  for (const mark of marks) {
    if (view.uidAt(sequence) !== mark.uid) sequence = view.sequenceOf(mark.uid);
    text += `* ${sequence} FETCH (`;
    for (const [place, item] of items.entries()) text += place === 0 ? markText(item, mark) : ` ${markText(item, mark)}`;
    text += ')\r\n';
    if (tellsFlags) view.forgetMark(mark.uid);
    sequence += 1;
  }
  return text;
}
