import { rangesOf, rangesText } from '../../mailbox/uid-set.ts';
import { breathe } from '../../pieces.ts';
import { command, type Dialogue, type Ending, mailroomOf, no, ok, viewOf, type Write } from '../dialogue.ts';
import { CHARSETS, keysIn, readSearchKeys, type SearchKey } from '../search-keys.ts';
import { search } from '../search-run.ts';
import { readCriteria, type Sortable, type SortCriterion, sortable, sorted } from '../sorting.ts';
import { threadText } from '../threading.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';

const RETURNS = ['MIN', 'MAX', 'COUNT', 'ALL', 'SAVE'];
const A_PIECE = 500;

/** The charset is none that is known here; the command ends with what is (RFC 3501 §6.4.4). */
type Charset = { kind: 'known'; name: string } | { kind: 'unknown' };

interface SearchAsked {
  /** What is to be given back (RFC 4731); null for the plain answer. */
  returns: Set<string> | null;
  charset: Charset;
  key: SearchKey;
}

function readReturns(tokens: Tokens): Set<string> | null {
  if (!tokens.take('RETURN ')) return null;
  const given = new Set(tokens.list(() => tokens.word(), true));
  for (const one of given) if (!RETURNS.includes(one)) throw new SyntaxFault(`${one.slice(0, 40)} is not a SEARCH result option`);
  tokens.space();
  return given.size === 0 ? new Set(['ALL']) : given;
}

function charsetOf(name: string): Charset {
  return CHARSETS.includes(name.toUpperCase()) ? { kind: 'known', name } : { kind: 'unknown' };
}

function readSearch(tokens: Tokens, { enabled }: Dialogue): SearchAsked {
  const returns = readReturns(tokens);
  let charset: Charset = { kind: 'known', name: 'UTF-8' };
  if (tokens.take('CHARSET ')) {
    // RFC 6855 §3: all is UTF-8 from then on.
    if (enabled.has('UTF8=ACCEPT')) throw new SyntaxFault('No CHARSET is allowed after UTF8=ACCEPT');
    charset = charsetOf(tokens.astring().toString('latin1'));
    tokens.space();
  }
  return { returns, charset, key: readSearchKeys(tokens, charset.kind === 'known' ? charset.name : 'UTF-8') };
}

const BAD_CHARSET = no('Unknown charset', `BADCHARSET (${CHARSETS.join(' ')})`);

/** `tag` is told to whoever asked in the new way (RFC 4731 §3.1). */
const runSearch =
  (byUid: boolean) =>
  async (dialogue: Dialogue, { returns, charset, key }: SearchAsked, write: Write): Promise<Ending> => {
    if (charset.kind === 'unknown') {
      // RFC 5182 §2.1: after NO there is nothing that could be meant by `$`.
      if (returns?.has('SAVE')) dialogue.saved = [];
      return BAD_CHARSET;
    }
    const view = viewOf(dialogue);
    const asksModseq = [...keysIn(key)].some((one) => one.kind === 'modseq');
    if (asksModseq) dialogue.enabled.add('CONDSTORE');
    const found = await search({ mailroom: mailroomOf(dialogue), view, saved: dialogue.saved, now: dialogue.doors.now() }, key);
    const numbers = byUid ? found.map((sequence) => view.uidAt(sequence)) : found;
    const asksNew = returns ?? (dialogue.enabled.has('IMAP4REV2') ? new Set(['ALL']) : null);
    const told = asksNew ? toldOf(asksNew, found) : found;
    const highest = told.reduce((most, sequence) => Math.max(most, view.markAt(sequence).modseq), 0);
    const modseqText = asksModseq && told.length > 0 ? highest : null;
    if (asksNew) {
      if (asksNew.has('SAVE')) dialogue.saved = rangesOf(told.map((sequence) => view.uidAt(sequence)));
      await write(extended(dialogue, asksNew, numbers, byUid, modseqText));
    } else {
      // In pieces: a hundred thousand numbers are a long line.
      const parts: string[] = ['* SEARCH'];
      for (const number of numbers) parts.push(` ${number}`);
      await write(`${parts.join('')}${modseqText === null ? '' : ` (MODSEQ ${modseqText})`}\r\n`);
    }
    return ok();
  };

/** Of what was found, in ascending order, what the answer speaks of: the first and the last where only those are asked for (RFC 4731 §3.2, RFC 5182 §2.1). */
function toldOf(returns: Set<string>, found: readonly number[]): readonly number[] {
  const [isFirst, isLast] = [returns.has('MIN'), returns.has('MAX')];
  if (returns.has('ALL') || returns.has('COUNT') || !(isFirst || isLast)) return found;
  return [...new Set([...(isFirst ? found.slice(0, 1) : []), ...(isLast ? found.slice(-1) : [])])];
}

function extended({ tag }: Dialogue, returns: Set<string>, numbers: readonly number[], byUid: boolean, modseq: number | null): string {
  const parts = [`* ESEARCH (TAG "${tag}")${byUid ? ' UID' : ''}`];
  if (returns.has('MIN') && numbers.length > 0) parts.push(`MIN ${Math.min(numbers[0] as number, numbers.at(-1) as number)}`);
  if (returns.has('MAX') && numbers.length > 0) parts.push(`MAX ${Math.max(numbers[0] as number, numbers.at(-1) as number)}`);
  if (returns.has('ALL') && numbers.length > 0) parts.push(`ALL ${rangesText(rangesOf(numbers))}`);
  if (returns.has('COUNT')) parts.push(`COUNT ${numbers.length}`);
  if (modseq !== null) parts.push(`MODSEQ ${modseq}`);
  return `${parts.join(' ')}\r\n`;
}

interface SortAsked {
  criteria: SortCriterion[];
  charset: Charset;
  key: SearchKey;
}

const readSort = (tokens: Tokens): SortAsked => {
  const criteria = readCriteria(tokens);
  tokens.space();
  const charset = charsetOf(tokens.astring().toString('latin1'));
  tokens.space();
  return { criteria, charset, key: readSearchKeys(tokens, charset.kind === 'known' ? charset.name : 'UTF-8') };
};

/** The messages that a key fits, with what they are put in order by. */
async function found(dialogue: Dialogue, key: SearchKey): Promise<Sortable[]> {
  const view = viewOf(dialogue);
  const mailroom = mailroomOf(dialogue);
  const sequences = await search({ mailroom, view, saved: dialogue.saved, now: dialogue.doors.now() }, key);
  const all: Sortable[] = [];
  for (let at = 0; at < sequences.length; at += A_PIECE) {
    const some = sequences.slice(at, at + A_PIECE);
    const [first, last] = [view.uidAt(some[0] as number), view.uidAt(some.at(-1) as number)];
    const rows = mailroom.messages(view.folder.id, first, last, last - first + 1);
    const outlines = await mailroom.outlines(rows, ['keys']);
    const byUid = new Map(rows.map((row) => [row.uid, row]));
    for (const sequence of some) {
      const row = byUid.get(view.uidAt(sequence));
      if (row) all.push(sortable(sequence, row, outlines.get(row.file)));
    }
    await breathe();
  }
  return all;
}

const runSort =
  (byUid: boolean) =>
  async (dialogue: Dialogue, { criteria, charset, key }: SortAsked, write: Write): Promise<Ending> => {
    if (charset.kind === 'unknown') return BAD_CHARSET;
    const all = await sorted(await found(dialogue, key), criteria);
    await write(`* SORT${all.map((one) => ` ${byUid ? one.uid : one.sequence}`).join('')}\r\n`);
    return ok();
  };

const ALGORITHMS = ['ORDEREDSUBJECT', 'REFERENCES'] as const;
const readThread = (tokens: Tokens): { how: (typeof ALGORITHMS)[number]; charset: Charset; key: SearchKey } => {
  const how = tokens.word() as (typeof ALGORITHMS)[number];
  if (!ALGORITHMS.includes(how)) throw new SyntaxFault('Use REFERENCES or ORDEREDSUBJECT');
  tokens.space();
  const charset = charsetOf(tokens.astring().toString('latin1'));
  tokens.space();
  return { how, charset, key: readSearchKeys(tokens, charset.kind === 'known' ? charset.name : 'UTF-8') };
};

const runThread =
  (byUid: boolean) =>
  async (dialogue: Dialogue, { how, charset, key }: ReturnType<typeof readThread>, write: Write): Promise<Ending> => {
    if (charset.kind === 'unknown') return BAD_CHARSET;
    const text = await threadText(await found(dialogue, key), how, (one) => (byUid ? one.uid : one.sequence));
    await write(`* THREAD${text === '' ? '' : ` ${text}`}\r\n`);
    return ok();
  };

/** RFC 3501 §6.4.4, RFC 4731, RFC 5032, RFC 5182, RFC 7162 §3.1.5 */
export const searchBySequence = command('selected', readSearch, runSearch(false), { mayExpunge: false });
export const searchByUid = command('selected', readSearch, runSearch(true));
/** RFC 5256 §3 */
export const sort = command('selected', readSort, runSort(false), { mayExpunge: false });
export const uidSort = command('selected', readSort, runSort(true));
export const thread = command('selected', readThread, runThread(false), { mayExpunge: false });
export const uidThread = command('selected', readThread, runThread(true));
