import type { Outline } from '../core/mime/outline.ts';
import type { Database } from './database.ts';
import type { Readable } from './read-database.ts';

type Row = Omit<Outline, 'parts' | 'keys' | 'shownMore'> & { parts: string; keys: string };

/** Outlines are read by columns, since most questions need few of them: `l` has what lists show, `o` the rest. */
const OUTLINE_COLUMNS = {
  envelope: 'l.envelope',
  bodyStructure: 'l.body_structure',
  body: 'l.body',
  parts: 'o.parts',
  header: 'o.header',
  keys: 'o.keys',
  preview: 'o.preview',
  thread: 'o.thread',
} as const;
type OutlineColumn = keyof typeof OUTLINE_COLUMNS;

/** Some outlines, by their numbers. */
export function readOutlines(db: Readable, ids: readonly number[], columns: readonly OutlineColumn[]): Map<number, Partial<Outline>> {
  const read = columns.map((one) => OUTLINE_COLUMNS[one]);
  const tables = [
    ...(read.every((one) => one.startsWith('l.')) ? [] : ['CROSS JOIN outline o ON o.id = f.value']),
    ...(read.some((one) => one.startsWith('l.')) ? ['CROSS JOIN outline_line l ON l.id = f.value'] : []),
  ];
  const rows = db.all<Partial<Row> & { id: number }>(
    `SELECT f.value AS id, ${columns.map((one, at) => `${read[at]} AS ${one}`).join(', ')} FROM json_each(?) f ${tables.join(' ')}`,
    JSON.stringify(ids),
  );
  const outlines = new Map<number, Partial<Outline>>();
  for (const { id, parts, keys, ...more } of rows) {
    const outline = more as Partial<Outline>;
    if (parts !== undefined) outline.parts = JSON.parse(parts);
    if (keys !== undefined) outline.keys = JSON.parse(keys);
    outlines.set(id, outline);
  }
  return outlines;
}

/** Keeps what was found out of a text, for all messages that have it. */
export function keepOutline(db: Database, file: string, outline: Outline): void {
  const { id, changes } = db.run(
    `INSERT OR IGNORE INTO outline (file, parts, header, keys, preview, thread)
     SELECT ?, ?, ?, ?, ?, ? WHERE EXISTS (SELECT 1 FROM message WHERE file = ?)`,
    file,
    JSON.stringify(outline.parts),
    outline.header,
    JSON.stringify(outline.keys),
    outline.preview,
    outline.thread,
    file,
  );
  if (changes > 0)
    db.run(
      'INSERT INTO outline_line (id, envelope, body_structure, body) VALUES (?, ?, ?, ?)',
      id,
      outline.envelope,
      outline.bodyStructure,
      outline.body,
    );
  // Texts that were read before sizes were kept have none yet.
  const { plain, ascii, plainJunk, asciiJunk } = outline.shownMore;
  db.run(
    `INSERT OR IGNORE INTO shown_more (id, plain, ascii, plain_junk, ascii_junk) SELECT id, ?, ?, ?, ? FROM outline WHERE file = ?`,
    plain,
    ascii,
    plainJunk,
    asciiJunk,
    file,
  );
  db.run('UPDATE message SET outline_id = (SELECT id FROM outline WHERE file = ?) WHERE file = ? AND outline_id IS NULL', file, file);
}

export const removeOutline = (db: Database, file: string) => db.run('DELETE FROM outline WHERE file = ?', file);
