import type { Outline } from '../core/mime/outline.ts';
import type { Database } from './database.ts';
import type { Readable } from './read-database.ts';

type Row = Omit<Outline, 'parts' | 'keys'> & { parts: string; keys: string };

/** Outlines are read by columns, since most questions need few of them. */
const OUTLINE_COLUMNS = {
  envelope: 'envelope',
  bodyStructure: 'body_structure AS bodyStructure',
  body: 'body',
  parts: 'parts',
  header: 'header',
  keys: 'keys',
  preview: 'preview',
  thread: 'thread',
} as const;
type OutlineColumn = keyof typeof OUTLINE_COLUMNS;

/** Some outlines, by their numbers. */
export function readOutlines(db: Readable, ids: readonly number[], columns: readonly OutlineColumn[]): Map<number, Partial<Outline>> {
  const rows = db.all<Partial<Row> & { id: number }>(
    `SELECT o.id, ${columns.map((one) => `o.${OUTLINE_COLUMNS[one]}`).join(', ')} FROM json_each(?) f CROSS JOIN outline o ON o.id = f.value`,
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
  db.run(
    `INSERT OR IGNORE INTO outline (file, envelope, body_structure, body, parts, header, keys, preview, thread)
     SELECT ?, ?, ?, ?, ?, ?, ?, ?, ? WHERE EXISTS (SELECT 1 FROM message WHERE file = ?)`,
    file,
    outline.envelope,
    outline.bodyStructure,
    outline.body,
    JSON.stringify(outline.parts),
    outline.header,
    JSON.stringify(outline.keys),
    outline.preview,
    outline.thread,
    file,
  );
  db.run('UPDATE message SET outline_id = (SELECT id FROM outline WHERE file = ?) WHERE file = ? AND outline_id IS NULL', file, file);
}

export const removeOutline = (db: Database, file: string) => db.run('DELETE FROM outline WHERE file = ?', file);
