import type { Outline } from '../core/mime/outline.ts';
import type { Database } from './database.ts';
import type { Readable } from './read-database.ts';

type Row = Omit<Outline, 'parts' | 'keys' | 'bodyStructure'> & { file: string; parts: string; keys: string; bodyStructure: string };

/** Outlines are read by columns, since most questions need few of them. */
export const OUTLINE_COLUMNS = {
  envelope: 'envelope',
  bodyStructure: 'body_structure AS bodyStructure',
  body: 'body',
  parts: 'parts',
  header: 'header',
  keys: 'keys',
  preview: 'preview',
  thread: 'thread',
} as const;
export type OutlineColumn = keyof typeof OUTLINE_COLUMNS;

/** What is known of some texts, by the names of their files; of those that nothing is known of yet there is nothing. */
export function readOutlines(db: Readable, files: readonly string[], columns: readonly OutlineColumn[]): Map<string, Partial<Outline>> {
  const rows = db.all<Partial<Row> & { file: string }>(
    `SELECT o.file, ${columns.map((one) => `o.${OUTLINE_COLUMNS[one]}`).join(', ')} FROM json_each(?) f JOIN outline o ON o.file = f.value`,
    JSON.stringify(files),
  );
  return new Map(
    rows.map(({ file, parts, keys, ...more }) => [
      file,
      {
        ...more,
        ...(parts === undefined ? {} : { parts: JSON.parse(parts) }),
        ...(keys === undefined ? {} : { keys: JSON.parse(keys) }),
      } as Partial<Outline>,
    ]),
  );
}

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
}

/** Texts in mailboxes of which nothing is known yet, the newest first, at most so many; from a message on, downwards. */
export const withoutOutline = (db: Readable, before: number, most: number) =>
  db.all<{ id: number; file: string; size: number }>(
    `SELECT m.id, m.file, m.size - length(m.prefix) AS size FROM message m
     WHERE m.id < ? AND NOT EXISTS (SELECT 1 FROM outline o WHERE o.file = m.file) ORDER BY m.id DESC LIMIT ?`,
    before,
    most,
  );

export const removeOutline = (db: Database, file: string) => db.run('DELETE FROM outline WHERE file = ?', file);
