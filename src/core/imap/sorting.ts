import type { FolderMessage } from '../mailbox/operations.ts';
import type { Outline, SortKeys } from '../mime/outline.ts';
import { breathe, orderedInPieces } from '../pieces.ts';
import { SyntaxFault, type Tokens } from './tokens.ts';

const CRITERIA = ['ARRIVAL', 'CC', 'DATE', 'FROM', 'SIZE', 'SUBJECT', 'TO'] as const;
export interface SortCriterion {
  by: (typeof CRITERIA)[number];
  isReversed: boolean;
}

/** A message that is put in order. */
export interface Sortable {
  sequence: number;
  uid: number;
  row: FolderMessage;
  keys: SortKeys;
}

/** RFC 5256 §3 */
export function readCriteria(tokens: Tokens): SortCriterion[] {
  return tokens.list(() => {
    const isReversed = tokens.take('REVERSE ');
    const by = tokens.word() as SortCriterion['by'];
    if (!CRITERIA.includes(by)) throw new SyntaxFault(`${by.slice(0, 40)} is not a sort key`);
    return { by, isReversed };
  });
}

const NO_KEYS: SortKeys = { sentAt: null, subject: '', from: '', to: '', cc: '', messageId: null, references: [] };
export const sortable = (sequence: number, row: FolderMessage, outline: Partial<Outline> | undefined): Sortable => ({
  sequence,
  uid: row.uid,
  row,
  keys: outline?.keys ?? NO_KEYS,
});

/** What is prepared in one turn. */
const A_PIECE = 4000;

/** Puts messages in order; those that are alike stay as they are in the folder. In pieces, so that a large folder holds up nobody else. */
export async function sorted(all: readonly Sortable[], criteria: readonly SortCriterion[]): Promise<Sortable[]> {
  const keyed: { one: Sortable; values: (string | number)[] }[] = [];
  for (const one of all) {
    keyed.push({ one, values: criteria.map(({ by }) => sortValue(one, by)) });
    if (keyed.length % A_PIECE === 0) await breathe();
  }
  const inOrder = await orderedInPieces(keyed, (first, second) => {
    for (const [place, { isReversed }] of criteria.entries()) {
      const [a, b] = [first.values[place] as string | number, second.values[place] as string | number];
      if (a !== b) return (a < b ? -1 : 1) * (isReversed ? -1 : 1);
    }
    return first.one.sequence - second.one.sequence;
  });
  return inOrder.map(({ one }) => one);
}

function sortValue({ row, keys }: Sortable, by: SortCriterion['by']): string | number {
  if (by === 'ARRIVAL') return row.internalDate;
  if (by === 'SIZE') return row.size;
  if (by === 'DATE') return sentAt({ row, keys });
  if (by === 'SUBJECT') return baseSubject(keys.subject).text.toUpperCase();
  return keys[by.toLowerCase() as 'cc' | 'from' | 'to'].toUpperCase();
}

/** RFC 5256 §2.2: what says nothing of when it was sent was sent when it came. */
export const sentAt = ({ row, keys }: Pick<Sortable, 'row' | 'keys'>): number => keys.sentAt ?? row.internalDate;

const LEADER = /^(?:\[[^[\]]*\]\s*)*(?:re|fwd?)\s*(?:\[[^[\]]*\]\s*)?:\s*/i;
const BLOB = /^\[[^[\]]*\]\s*/;

/** A subject without what answers and forwards put around it (RFC 5256 §2.1); whether there was anything of the kind. */
export function baseSubject(subject: string): { text: string; isReply: boolean } {
  let text = subject.replace(/\s+/g, ' ').trim();
  let isReply = false;
  for (let before = ''; before !== text; ) {
    before = text;
    const trailer = text.replace(/(?:\s*\(fwd\))+\s*$/i, '').trimEnd();
    if (trailer !== text) isReply = true;
    text = trailer;
    const leader = LEADER.exec(text)?.[0];
    if (leader) {
      text = text.slice(leader.length);
      isReply = true;
      continue;
    }
    const blob = BLOB.exec(text)?.[0];
    if (blob && blob.length < text.length) text = text.slice(blob.length);
    const forwarded = /^\[fwd:\s*(.*)\]$/i.exec(text)?.[1];
    if (forwarded !== undefined) {
      text = forwarded.trim();
      isReply = true;
    }
  }
  return { text, isReply };
}
