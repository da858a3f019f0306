import { isIndexedField, LEAST_INDEXED, type Wanted } from '../mailbox/indexed.ts';
import type { FolderMessage } from '../mailbox/operations.ts';
import type { Range } from '../mailbox/uid-set.ts';
import { canBeRead, fieldLetters, searchable } from '../mime/letters.ts';
import { headerEnd, isHeaderCut, type Outline, USUAL_FIELDS } from '../mime/outline.ts';
import { decodedWords } from '../mime/words.ts';
import { breathe } from '../pieces.ts';
import { emailId } from './commands/fetching.ts';
import type { FolderView } from './folder-view.ts';
import type { Mailroom, Mark, OutlinePart } from './mailroom.ts';
import { keysIn, type SearchKey } from './search-keys.ts';

/** Messages that are looked at in one turn. */
const A_PIECE = 500;
/** Octets of texts in one. */
const MUCH = 1024 * 1024;

const NEEDS_ROW = new Set<SearchKey['kind']>(['size', 'date', 'age', 'email-id', 'thread-id', 'body', 'text', 'header']);

/** What is known of a message while it is looked at; texts are opened only when nothing else decides. */
interface Candidate {
  sequence: number;
  mark: Mark;
  row: FolderMessage | undefined;
  outline: Partial<Outline>;
  text: Buffer | null;
  /** What was looked for in the text so far, and whether it is there. */
  readable: Map<SearchKey, boolean>;
}

interface SearchContext {
  mailroom: Mailroom;
  view: FolderView;
  /** UIDs kept by an earlier search. */
  saved: readonly Range[];
  /** In ms. */
  now: number;
}

/** The sequence numbers of the messages that a key fits, in ascending order. */
export async function search({ mailroom, view, saved, now }: SearchContext, key: SearchKey): Promise<number[]> {
  const sets = resolvedSets(view, saved, key);
  const parts = outlineParts(key);
  const needsRow = parts.length > 0 || [...keysIn(key)].some((one) => NEEDS_ROW.has(one.kind));
  const textKeys = [...keysIn(key)].flatMap((one) => (one.kind === 'text' || one.kind === 'body' ? [one] : []));
  const found: number[] = [];
  for await (const sequences of toLookAt(mailroom, view, key)) {
    const candidates: Candidate[] = [];
    for (const sequence of sequences) {
      const mark = view.markAt(sequence);
      const candidate = { sequence, mark, row: undefined, outline: {}, text: null, readable: new Map() };
      // What its mark alone decides needs no reading.
      if (!view.isGone(mark.uid) && fits(key, candidate, sets, now) !== false) candidates.push(candidate);
    }
    if (needsRow) await readRows(mailroom, view, candidates, parts);
    let read = 0;
    for (const one of candidates) {
      let isFit = fits(key, one, sets, now);
      if (isFit === null && one.row) {
        isFit = await mailroom.withText(one.row, async (text) => {
          one.text = text ?? Buffer.alloc(0);
          let isFound = fits(key, one, sets, now);
          for (const inner of textKeys) {
            if (isFound !== null) break;
            one.readable.set(
              inner,
              await canBeRead(inner.text, { octets: one.text, part: one.outline.parts, inHeader: inner.kind === 'text' }),
            );
            isFound = fits(key, one, sets, now);
            read += one.text.length;
          }
          one.text = null;
          return isFound;
        });
        if (read > MUCH) {
          read = 0;
          await breathe();
        }
      }
      if (isFit) found.push(one.sequence);
    }
    await breathe();
  }
  return found;
}

/** The sequence numbers of what may fit, in pieces: those that the folder's index names, and all that it does not know yet; without an index, all. */
async function* toLookAt(mailroom: Mailroom, view: FolderView, key: SearchKey): AsyncGenerator<number[]> {
  const wanted = view.count < LEAST_INDEXED ? null : wantedBy(key);
  let next = 1;
  if (wanted) {
    let some: number[] = [];
    for await (const { uids, upTo } of mailroom.indexed(view.folder.id, wanted)) {
      for (const uid of uids) {
        const sequence = view.sequenceOf(uid);
        if (sequence > 0) some.push(sequence);
      }
      next = view.sequenceFrom(upTo + 1);
      for (; some.length >= A_PIECE; some = some.slice(A_PIECE)) yield some.slice(0, A_PIECE);
    }
    if (some.length > 0) yield some;
  }
  for (; next <= view.count; next += A_PIECE)
    yield Array.from({ length: Math.min(A_PIECE, view.count - next + 1) }, (_one, place) => next + place);
}

/** What messages must hold that the key may fit; null when that can't be said. */
function wantedBy(key: SearchKey): Wanted | null {
  switch (key.kind) {
    case 'and': {
      const all = key.keys.flatMap((one) => wantedBy(one) ?? []);
      return all.length === 0 ? null : { kind: 'and', all };
    }
    case 'or': {
      const all = key.keys.map(wantedBy);
      return all.every((one) => one !== null) ? { kind: 'or', all } : null;
    }
    case 'header':
      return isIndexedField(key.name) && key.text !== '' ? { kind: 'field', field: key.name, letters: key.text } : null;
    case 'text':
    case 'body':
      return key.text === '' ? null : { kind: 'text', letters: key.text };
    default:
      return null;
  }
}

async function readRows(mailroom: Mailroom, view: FolderView, candidates: Candidate[], parts: OutlinePart[]): Promise<void> {
  if (candidates.length === 0) return;
  const rows = mailroom.messagesOf(
    view.folder.id,
    candidates.map((one) => one.mark.uid),
  );
  const byUid = new Map(rows.map((row) => [row.uid, row]));
  for (const one of candidates) one.row = byUid.get(one.mark.uid);
  if (parts.length === 0) return;
  const outlines = await mailroom.outlines(
    candidates.flatMap((one) => one.row ?? []),
    parts,
  );
  for (const one of candidates) one.outline = (one.row && outlines.get(one.row.file)) ?? {};
}

function outlineParts(key: SearchKey): OutlinePart[] {
  const parts = new Set<OutlinePart>();
  for (const one of keysIn(key)) {
    if (one.kind === 'header' || one.kind === 'text') parts.add('header');
    // Of a field that is not kept it must be known where the header ends.
    if (one.kind === 'text' || one.kind === 'body' || (one.kind === 'header' && !USUAL_FIELDS.has(one.name))) parts.add('parts');
    if (one.kind === 'thread-id') parts.add('thread');
    if (one.kind === 'date') parts.add('keys');
  }
  return [...parts];
}

/** What each set in the key means, by sequence numbers; a number that is not there means nothing. */
function resolvedSets(view: FolderView, saved: readonly Range[], key: SearchKey): Map<SearchKey, Range[]> {
  const sets = new Map<SearchKey, Range[]>();
  const walk = (one: SearchKey): void => {
    if (one.kind === 'and' || one.kind === 'or') one.keys.forEach(walk);
    else if (one.kind === 'not') walk(one.key);
    else if (one.kind === 'uid' || one.kind === 'sequence') {
      const inFolder = view.count === 0 ? [] : [[1, view.count] as const];
      sets.set(
        one,
        one.set === '$' ? (view.resolve(saved, true) ?? []) : (view.resolve(one.set, one.kind === 'uid') ?? clipped(one.set, inFolder)),
      );
    }
  };
  walk(key);
  return sets;
}

const clipped = (set: readonly Range[], [folder]: readonly (readonly [number, number])[]): Range[] =>
  folder
    ? set.flatMap(([from, to]) => {
        const range = [Math.max(from, folder[0]), Math.min(to, folder[1])] as const;
        return range[0] <= range[1] ? [range] : [];
      })
    : [];

/** Whether a message fits; null when that can't be told by what is known of it. */
function fits(key: SearchKey, one: Candidate, sets: Map<SearchKey, Range[]>, now: number): boolean | null {
  switch (key.kind) {
    case 'all':
      return true;
    case 'and':
      return every(key.keys.map((inner) => () => fits(inner, one, sets, now)));
    case 'or':
      return negated(every(key.keys.map((inner) => () => negated(fits(inner, one, sets, now)))));
    case 'not':
      return negated(fits(key.key, one, sets, now));
    case 'uid':
    case 'sequence':
      return (sets.get(key) ?? []).some(([from, to]) => one.sequence >= from && one.sequence <= to);
    case 'flag':
      return ((one.mark.flags & key.bit) !== 0) === key.isSet;
    case 'keyword':
      return ` ${one.mark.keywords.toLowerCase()} `.includes(` ${key.name} `) === key.isSet;
    case 'modseq':
      return one.mark.modseq >= key.least;
    default:
      return one.row ? fitsRow(key, one, one.row, now) : null;
  }
}

function fitsRow(key: SearchKey, one: Candidate, row: FolderMessage, now: number): boolean | null {
  switch (key.kind) {
    case 'size':
      return key.compare === 'larger' ? row.size > key.octets : row.size < key.octets;
    case 'age': {
      const isYounger = now - row.internalDate <= key.seconds * 1000;
      return key.compare === 'younger' ? isYounger : !isYounger;
    }
    case 'date': {
      const { sentAt = null, sentDay = sentAt } = one.outline.keys ?? {};
      const at = key.of === 'internal' ? row.internalDate : key.of === 'saved' ? row.savedAt : sentDay;
      // RFC 3501 §6.4.4: time and zone are disregarded; a message that says nothing was sent at no time.
      return at !== null && at >= key.from && at < key.before;
    }
    case 'email-id':
      return emailId(row) === key.id;
    case 'thread-id':
      return `T${one.outline.thread ?? ''}` === key.id;
    case 'header':
      return fitsHeader(key, one, row);
    case 'text':
      if (one.outline.header !== undefined && searchable(decodedWords(row.prefix + one.outline.header)).includes(key.text)) return true;
      return one.readable.get(key) ?? null;
    case 'body':
      return one.readable.get(key) ?? null;
    default:
      return false;
  }
}

function fitsHeader({ name, text }: { name: string; text: string }, one: Candidate, row: FolderMessage): boolean | null {
  const isKept = USUAL_FIELDS.has(name) && one.outline.header !== undefined && !isHeaderCut(one.outline.header);
  if (!isKept && one.text === null) return null;
  const header = isKept ? one.outline.header : one.text?.toString('latin1', 0, headerEnd(one.text));
  return fieldLetters(row.prefix + (header ?? ''), name).some((letters) => text === '' || searchable(letters).includes(text));
}

/** All of them, the cheap ones first: one that is known to be false decides. */
function every(all: readonly (() => boolean | null)[]): boolean | null {
  let result: boolean | null = true;
  for (const one of all) {
    const value = one();
    if (value === false) return false;
    if (value === null) result = null;
  }
  return result;
}

const negated = (value: boolean | null): boolean | null => (value === null ? null : !value);
