import type { FolderMessage } from '../mailbox/operations.ts';
import type { Range } from '../mailbox/uid-set.ts';
import { fieldsOf } from '../mime/header.ts';
import { type Outline, type PlacedPart, USUAL_FIELDS } from '../mime/outline.ts';
import { decoded, decodedWords, transferDecoded } from '../mime/words.ts';
import { breathe } from '../pieces.ts';
import { emailId } from './commands/fetching.ts';
import type { FolderView } from './folder-view.ts';
import type { Mailroom, Mark, OutlinePart } from './mailroom.ts';
import { holds, type SearchKey } from './search-keys.ts';

/** Messages that are looked at in one turn. */
const A_PIECE = 500;
/** Octets of texts in one. */
const MUCH = 1024 * 1024;

/** What is known of a message while it is looked at; texts are opened only when nothing else decides. */
interface Candidate {
  sequence: number;
  mark: Mark;
  row: FolderMessage | undefined;
  outline: Partial<Outline>;
  text: Buffer | null;
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
  const needsRow = parts.length > 0 || holds(key, ['size', 'date', 'age', 'email-id', 'thread-id', 'body', 'text', 'header']);
  const found: number[] = [];
  for (let from = 1; from <= view.count; from += A_PIECE) {
    const candidates: Candidate[] = [];
    for (let sequence = from; sequence <= Math.min(view.count, from + A_PIECE - 1); sequence += 1) {
      const mark = view.markAt(sequence);
      const candidate = { sequence, mark, row: undefined, outline: {}, text: null };
      // What its mark alone decides needs no reading.
      if (!view.isGone(mark.uid) && fits(key, candidate, sets, now) !== false) candidates.push(candidate);
    }
    if (needsRow) await readRows(mailroom, view, candidates, parts);
    let read = 0;
    for (const one of candidates) {
      let isFit = fits(key, one, sets, now);
      if (isFit === null && one.row) {
        one.text = (await mailroom.slice(one.row, 0, Number.MAX_SAFE_INTEGER)) ?? Buffer.alloc(0);
        read += one.text.length;
        isFit = fits(key, one, sets, now);
        one.text = null;
      }
      if (isFit) found.push(one.sequence);
      if (read > MUCH) {
        read = 0;
        await breathe();
      }
    }
    await breathe();
  }
  return found;
}

async function readRows(mailroom: Mailroom, view: FolderView, candidates: Candidate[], parts: OutlinePart[]): Promise<void> {
  const [first, last] = [candidates[0], candidates.at(-1)];
  if (!first || !last) return;
  const rows = mailroom.messages(view.folder.id, first.mark.uid, last.mark.uid, last.mark.uid - first.mark.uid + 1);
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
  if (holds(key, ['header', 'text'])) parts.add('header');
  if (holds(key, ['body', 'text'])) parts.add('parts');
  if (holds(key, ['thread-id'])) parts.add('thread');
  if (holds(key, ['date'])) parts.add('keys');
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
      const at = key.of === 'internal' ? row.internalDate : key.of === 'saved' ? row.savedAt : (one.outline.keys?.sentAt ?? null);
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
      if (one.outline.header !== undefined && holdsText(decodedWords(row.prefix + one.outline.header), key.text)) return true;
      return one.text === null ? null : fitsText(one.text, one.outline.parts, key.text, true);
    case 'body':
      return one.text === null ? null : fitsText(one.text, one.outline.parts, key.text, false);
    default:
      return false;
  }
}

function fitsHeader({ name, text }: { name: string; text: string }, one: Candidate, row: FolderMessage): boolean | null {
  const isUsual = USUAL_FIELDS.has(name);
  if (!isUsual && one.text === null) return null;
  const header = Buffer.from(row.prefix + (isUsual ? (one.outline.header ?? '') : ''), 'latin1');
  const octets = isUsual
    ? header
    : Buffer.concat([header, (one.text as Buffer).subarray(0, one.outline.parts?.bodyStart ?? one.text?.length)]);
  const fields = fieldsOf(octets, 0, octets.length).filter((field) => field.name === name);
  return fields.some((field) => text === '' || holdsText(decodedWords(field.value), text));
}

const holdsText = (where: string, what: string): boolean => where.normalize('NFC').toLowerCase().includes(what);

/** Looks through the texts of a message, decoded, and with `inHeader` through its headers. */
function fitsText(octets: Buffer, part: PlacedPart | undefined, what: string, inHeader: boolean): boolean {
  if (!part) return false;
  if (inHeader && holdsText(decodedWords(octets.toString('latin1', part.start, part.bodyStart).replace(/\r?\n(?=[ \t])/g, '')), what))
    return true;
  if (part.message) return fitsText(octets, part.message, what, true);
  if (part.children.length > 0) return part.children.some((one) => fitsText(octets, one, what, inHeader));
  if (!part.type.startsWith('text/')) return false;
  const plain = transferDecoded(octets.subarray(part.bodyStart, part.end), part.encoding);
  return plain !== null && holdsText(decoded(plain, part.charset), what);
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
