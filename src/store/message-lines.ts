import { isAscii } from 'node:buffer';
import { ALL_FLAGS, ANSWERED, flagNames, SEEN } from '../core/mailbox/flags.ts';
import type { ComposedLines, LineColumn, LinePiece, LineRange } from '../core/mailbox/lines.ts';
import type { Readable } from './read-database.ts';

/** RFC 3501 §9, date-time. */
const MONTHS = 'JanFebMarAprMayJunJulAugSepOctNovDec';
const date = (format: string): string => `strftime('${format}', m.internal_date / 1000, 'unixepoch')`;
/** The usual ones first: they are compared one after the other. */
const FLAG_TEXTS = [SEEN, 0, SEEN | ANSWERED, ...Array.from({ length: ALL_FLAGS + 1 }, (_one, flags) => flags)]
  .map((flags) => `WHEN ${flags} THEN '${flagNames({ flags, keywords: '' })}'`)
  .join(' ');
const LINE_COLUMNS: Record<LineColumn, string> = {
  uid: 'm.uid',
  sequence: '(m.uid - CAST(? AS INTEGER))',
  flags: `iif(m.keywords = '', CASE m.flags ${FLAG_TEXTS} END, ltrim(concat(CASE m.flags ${FLAG_TEXTS} END, ' ', m.keywords)))`,
  modseq: 'm.modseq',
  'internal-date': `(${date('%d-')} || substr('${MONTHS}', ${date('%m')} * 3 - 2, 3) || ${date('-%Y %H:%M:%S +0000')})`,
  size: 'm.size',
  envelope: 'l.envelope',
  body: 'l.body',
  'body-structure': 'l.body_structure',
};

/** What is not there while a text has no outline. */
const OF_OUTLINE: readonly LineColumn[] = ['envelope', 'body', 'body-structure'];

/** Exactly one of the pieces shows a sequence number. */
export function composeLines(
  db: Readable,
  folderId: number,
  { from, to, first, isDense }: LineRange,
  pieces: readonly LinePiece[],
): ComposedLines {
  const line = pieces
    .map((one) =>
      'text' in one
        ? `'${one.text.replaceAll("'", "''")}'`
        : one.column === 'sequence' && !isDense
          ? '(row_number() OVER (ORDER BY m.uid) + CAST(? AS INTEGER))'
          : LINE_COLUMNS[one.column],
    )
    .join(', ');
  const isWhole = pieces.some((one) => 'column' in one && OF_OUTLINE.includes(one.column)) ? 'l.id' : 'm.uid';
  // In one go: pieces that are joined one after the other are copied with each.
  const row = db.one<ComposedLines & { known: number }>(
    `SELECT count(*) AS messages, count(whole) AS known, max(modseq) AS modseq, CAST(group_concat(line, '') AS BLOB) AS octets
     FROM (SELECT m.modseq, ${isWhole} AS whole, concat(${line}) AS line FROM message m LEFT JOIN outline_line l ON l.id = m.outline_id
       WHERE m.folder_id = ? AND m.uid BETWEEN ? AND ? ORDER BY m.uid)`,
    isDense ? from - first : first - 1,
    folderId,
    from,
    to,
  );
  const { messages, known, modseq, octets } = row ?? { messages: 0, known: 0, modseq: 0, octets: null };
  if (octets === null || known !== messages) return { messages, modseq, octets: null };
  // The columns keep octets one to one as latin1, and the database has its own text in UTF-8.
  return { messages, modseq, octets: isAscii(octets) ? octets : Buffer.from(octets.toString(), 'latin1') };
}
