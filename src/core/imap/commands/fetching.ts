import { createHash } from 'node:crypto';
import type { FolderMessage } from '../../mailbox/operations.ts';
import { type Range, rangesText } from '../../mailbox/uid-set.ts';
import { isHeaderCut, type Outline, USUAL_FIELDS } from '../../mime/outline.ts';
import { nstring } from '../../mime/wire.ts';

import { breathe } from '../../pieces.ts';
import { A_SLICE, binaryItem, type Sent } from '../binary-item.ts';
import { command, type Dialogue, type Ending, hasCondstore, isUtf8, mailroomOf, no, ok, viewOf, type Write } from '../dialogue.ts';
import { type FetchItem, OUTLINE_NEEDED, readFetchItems } from '../fetch-items.ts';
import { fetchLines, markLines, markText } from '../fetch-lines.ts';
import type { Mark, OutlinePart } from '../mailroom.ts';
import { utf8String } from '../names.ts';
import { chosenFields, placeOf } from '../sections.ts';
import { asksForMarks, seen } from '../seen.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';
import { vanishedSince } from '../vanished.ts';

interface FetchAsked {
  set: Range[] | '$';
  items: FetchItem[];
  changedSince: number | null;
  showsVanished: boolean;
}

/** Messages that are read and answered in one turn. */
const A_PIECE = 200;
const FIRST_PIECE = 50;
/** Octets of a header in which fields are looked for. */
const MOST_INNER_HEADER = 1024 * 1024;

const readFetch =
  (byUid: boolean) =>
  (tokens: Tokens, dialogue: Dialogue): FetchAsked => {
    const set = tokens.sequenceSet();
    tokens.space();
    const items = readFetchItems(tokens);
    let changedSince: number | null = null;
    let showsVanished = false;
    if (!tokens.isAtEnd) {
      tokens.space();
      tokens.list(() => {
        const option = tokens.word();
        if (option === 'CHANGEDSINCE') {
          tokens.space();
          changedSince = tokens.modseq();
        } else if (option === 'VANISHED' && byUid && dialogue.enabled.has('QRESYNC')) showsVanished = true;
        else throw new SyntaxFault(`${option.slice(0, 40)} is not a FETCH option`);
      });
      tokens.end();
    }
    if (showsVanished && changedSince === null) throw new SyntaxFault('VANISHED needs CHANGEDSINCE');
    return { set, items, changedSince, showsVanished };
  };

const runFetch =
  (byUid: boolean) =>
  async (dialogue: Dialogue, asked: FetchAsked, write: Write): Promise<Ending> => {
    const view = viewOf(dialogue);
    const sequences = sequencesOf(dialogue, asked.set, byUid);
    if (!sequences) return { kind: 'BAD', text: 'There is no such message' };
    if (asked.changedSince !== null || asked.items.some((one) => one.kind === 'modseq')) dialogue.enabled.add('CONDSTORE');
    if (asked.showsVanished) await tellVanished(dialogue, asked, write);
    const items = completed(asked, byUid, dialogue);
    if (dialogue.reads && (asksForMarks(items) || asked.changedSince !== null)) {
      await dialogue.reads.written();
      await view.update();
    }
    let fault: Ending | null = null;
    // What is answered in one turn is there whole until the client takes it: long answers come in smaller pieces.
    let piece = FIRST_PIECE;
    let sent = 0;
    const counted: Write = (octets) => {
      sent += octets.length;
      return write(octets);
    };
    for (const [first, last] of sequences)
      for (let from = first, to = first; from <= last; from = to + 1) {
        to = Math.min(last, from + piece - 1);
        const some: Mark[] = [];
        for (let sequence = from; sequence <= to; sequence += 1) {
          const mark = view.markAt(sequence);
          if (asked.changedSince === null || mark.modseq > asked.changedSince) some.push(mark);
        }
        sent = 0;
        if (some.length > 0) fault = (await answer(dialogue, some, items, counted)) ?? fault;
        piece = sent > A_SLICE ? Math.max(1, piece >> 2) : Math.min(A_PIECE, piece * 2);
        await breathe();
      }
    return fault ?? ok();
  };

/** Ranges of sequence numbers that a command means; null when some are not there. */
export function sequencesOf(dialogue: Dialogue, set: Range[] | '$', byUid: boolean): Range[] | null {
  const view = viewOf(dialogue);
  return set === '$' ? view.resolve(dialogue.saved, true) : view.resolve(set, byUid);
}

/** What the RFC adds to what was asked: the UID where it was asked by it, the mod-sequence where it was asked since one. */
function completed({ items, changedSince }: FetchAsked, byUid: boolean, dialogue: Dialogue): FetchItem[] {
  const has = (kind: FetchItem['kind']): boolean => items.some((one) => one.kind === kind);
  return [
    ...(byUid && !has('uid') ? [{ kind: 'uid' } as const] : []),
    ...items,
    ...((changedSince !== null || (hasCondstore(dialogue) && has('flags'))) && !has('modseq') ? [{ kind: 'modseq' } as const] : []),
  ];
}

/** RFC 7162 §3.2.6: those of the set that have gone since. */
async function tellVanished(dialogue: Dialogue, { set, changedSince }: FetchAsked, write: Write): Promise<void> {
  const gone = vanishedSince(mailroomOf(dialogue), viewOf(dialogue), changedSince ?? 0, set === '$' ? dialogue.saved : set);
  if (gone.length > 0) await write(`* VANISHED (EARLIER) ${rangesText(gone)}\r\n`);
}

const GONE = no('Some of the messages no longer exist', 'EXPUNGEISSUED');

/** Answers for some messages whose numbers follow on one another; returns what could not be answered. */
async function answer(dialogue: Dialogue, marks: readonly Mark[], items: readonly FetchItem[], write: Write): Promise<Ending | null> {
  const view = viewOf(dialogue);
  const mailroom = mailroomOf(dialogue);
  if (items.every(({ kind }) => kind === 'uid' || kind === 'flags' || kind === 'modseq')) {
    await write(markLines(view, marks, items));
    return null;
  }
  const [first, last] = [marks[0] as Mark, marks.at(-1) as Mark];
  const lines = fetchLines(dialogue, marks, items);
  if (lines !== null) {
    await write(lines);
    return null;
  }
  const rows = new Map(mailroom.messages(view.folder.id, first.uid, last.uid, last.uid - first.uid + 1).map((one) => [one.uid, one]));
  const found = marks.flatMap(({ uid }) => rows.get(uid) ?? []);
  const parts = new Set<OutlinePart>(items.flatMap((one) => partsNeeded(one)));
  const outlines = parts.size === 0 ? new Map() : await mailroom.outlines(found, [...parts]);
  let fault: Ending | null = found.length < marks.length ? GONE : null;
  let text = '';
  for (const row of found) {
    const outline = outlines.get(row.file) ?? {};
    const mark = await seen(dialogue, view.markAt(view.sequenceOf(row.uid)), items);
    text += `* ${view.sequenceOf(row.uid)} FETCH (`;
    for (const [place, item] of items.entries()) {
      if (place > 0) text += ' ';
      const said = await itemText(dialogue, item, mark, row, outline);
      if (typeof said === 'string') text += said;
      else {
        await write(text + said.before);
        text = '';
        fault = (await said.send(write)) ?? fault;
      }
      if (text.length > A_SLICE) {
        await write(text);
        text = '';
      }
    }
    text += ')\r\n';
    if (items.some((one) => one.kind === 'flags')) view.forgetMark(row.uid);
  }
  if (text !== '') await write(text);
  return fault;
}

function partsNeeded(item: FetchItem): OutlinePart[] {
  if (item.kind === 'text' && item.section.what === 'fields' && item.section.path.length === 0)
    return item.section.fields.every((one) => USUAL_FIELDS.has(one)) ? ['header'] : ['parts'];
  const part = OUTLINE_NEEDED[item.kind];
  return part === undefined ? [] : [part];
}

async function itemText(
  dialogue: Dialogue,
  item: FetchItem,
  mark: Mark,
  row: FolderMessage,
  outline: Partial<Outline>,
): Promise<string | Sent> {
  switch (item.kind) {
    case 'uid':
    case 'flags':
    case 'modseq':
      return markText(item, mark);
    case 'internal-date':
      return `INTERNALDATE "${internalDate(row.internalDate)}"`;
    case 'save-date':
      return `SAVEDATE "${internalDate(row.savedAt)}"`;
    case 'size':
      return `RFC822.SIZE ${row.size}`;
    case 'email-id':
      return `EMAILID (${emailId(row)})`;
    case 'envelope':
      return `ENVELOPE ${outline.envelope ?? '(NIL NIL NIL NIL NIL NIL NIL NIL NIL NIL)'}`;
    case 'body':
      return `BODY ${outline.body ?? LOST_STRUCTURE}`;
    case 'body-structure':
      return `BODYSTRUCTURE ${outline.bodyStructure ?? LOST_STRUCTURE}`;
    case 'thread-id':
      return `THREADID ${outline.thread === undefined ? 'NIL' : `(T${outline.thread})`}`;
    case 'preview':
      return `PREVIEW ${outline.preview === undefined ? 'NIL' : isUtf8(dialogue) ? utf8String(outline.preview) : nstring(Buffer.from(outline.preview).toString('latin1'))}`;
    case 'text':
      return textItem(dialogue, item, row, outline);
    case 'binary':
    case 'binary-size':
      return binaryItem(dialogue, item, row, outline);
  }
}
/** What can be said of a text that is lost. */
const LOST_STRUCTURE = '("text" "plain" NIL NIL NIL "7bit" 0 0)';

async function textItem(
  dialogue: Dialogue,
  { name, section, partial }: Extract<FetchItem, { kind: 'text' }>,
  row: FolderMessage,
  outline: Partial<Outline>,
): Promise<string | Sent> {
  const mailroom = mailroomOf(dialogue);
  const isOfHeader = section.what === 'fields' || section.what === 'other-fields';
  if (isOfHeader && outline.header !== undefined && outline.parts === undefined && !isHeaderCut(outline.header))
    return `${name} ${excerpt(chosenFields(Buffer.from(row.prefix + outline.header, 'latin1'), section), partial)}`;
  const parts =
    outline.parts ?? (outline.header === undefined ? undefined : (await mailroom.outlines([row], ['parts'])).get(row.file)?.parts);
  const place = parts && placeOf(parts, section);
  if (!place) return `${name} NIL`;
  const prefix = place.isWhole ? row.prefix : '';
  if (isOfHeader) {
    // A message within a message may call anything its header.
    const header = await mailroom.slice(row, place.from, Math.min(place.to, place.from + MOST_INNER_HEADER));
    return `${name} ${header ? excerpt(chosenFields(Buffer.concat([Buffer.from(prefix, 'latin1'), header]), section), partial) : 'NIL'}`;
  }
  const length = prefix.length + place.to - place.from;
  const from = Math.min(partial?.from ?? 0, length);
  const to = Math.min(length, partial ? from + partial.most : length);
  return {
    before: `${name} {${to - from}}\r\n`,
    send: async (write) => {
      if (from < prefix.length) await write(prefix.slice(from, to));
      const sliceAt = (at: number): Promise<Buffer | null> => {
        const slice = mailroom.slice(row, place.from + at - prefix.length, place.from + Math.min(to, at + A_SLICE) - prefix.length);
        // One that is read ahead may not be waited for any more when it fails.
        slice.catch(() => {});
        return slice;
      };
      // While one is sent the next is read.
      let next = sliceAt(Math.max(from, prefix.length));
      for (let at = Math.max(from, prefix.length); at < to; at += A_SLICE) {
        const end = Math.min(to, at + A_SLICE);
        const octets = await next;
        next = end < to ? sliceAt(end) : Promise.resolve(null);
        // So many octets were promised: a text that is lost is all blanks, and the command says so at its end.
        await write(octets?.length === end - at ? octets : Buffer.alloc(end - at, ' '));
        if (octets?.length !== end - at) return GONE;
      }
      return null;
    },
  };
}

const excerpt = (text: string, partial: { from: number; most: number } | null): string => {
  const some = partial ? text.slice(partial.from, partial.from + partial.most) : text;
  return `{${some.length}}\r\n${some}`;
};

/** The same for the same octets, wherever they lie (RFC 8474 §5.1). */
export const emailId = ({ file, prefix }: FolderMessage): string =>
  `M${createHash('sha256').update(file).update(prefix).digest('hex').slice(0, 24)}`;

/** RFC 3501 §6.4.5, RFC 7162 §3.1.4, RFC 3516, RFC 8474, RFC 8514, RFC 8970 */
export const fetch = command('selected', readFetch(false), runFetch(false), { mayExpunge: false });
export const uidFetch = command('selected', readFetch(true), runFetch(true));

const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];
/** RFC 3501 §9, date-time: in UTC. */
export function internalDate(ms: number): string {
  const date = new Date(ms);
  const two = (number: number): string => String(number).padStart(2, '0');
  return `${two(date.getUTCDate())}-${MONTHS[date.getUTCMonth()]}-${date.getUTCFullYear()} ${two(date.getUTCHours())}:${two(date.getUTCMinutes())}:${two(date.getUTCSeconds())} +0000`;
}
