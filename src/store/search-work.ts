import { rmSync } from 'node:fs';
import SQLite from 'better-sqlite3';
import type { Indexed, IndexFile, IndexWork } from './search-writer.ts';

/** Entries that are taken out in one commit. */
const A_PIECE = 500;

/**
 * What the thread that writes the index does. An index that can't be read, or is of another form, is thrown away: all of it can be made again. It is not
 * waited for until it is on disk: what a crash takes is made again, too.
 */
export function searchWork({ file, columns, format }: IndexFile): { answer: (work: IndexWork) => Indexed; close: () => void } {
  let open: OpenIndex | null = null;
  const close = (): void => {
    try {
      open?.db.close();
    } catch {
      // It is thrown away, or made again.
    }
    open = null;
  };
  return {
    answer: (work) => {
      try {
        open ??= openIndex(file, columns, format);
        const { db, act } = open;
        return { kind: 'done', more: db.transaction(() => act(work))() };
      } catch (error) {
        close();
        const { code = '', message } = error as { code?: string; message: string };
        const isBroken = /^SQLITE_(CORRUPT|NOTADB)/.test(code);
        if (isBroken) for (const end of ['', '-wal', '-shm']) rmSync(file + end, { force: true });
        return { kind: 'failed', fault: message, isBroken };
      }
    },
    close,
  };
}

interface OpenIndex {
  db: SQLite.Database;
  /** Returns whether there is more to do. */
  act: (work: IndexWork) => boolean;
}

function openIndex(file: string, columns: readonly string[], format: number): OpenIndex {
  const db = new SQLite(file);
  db.pragma('journal_mode = WAL');
  db.pragma('synchronous = NORMAL');
  db.pragma('busy_timeout = 10000');
  if (db.pragma('user_version', { simple: true }) !== format) {
    const { n } = db.prepare('SELECT count(*) AS n FROM sqlite_master').get() as { n: number };
    if (n > 0) {
      db.close();
      throw Object.assign(new Error('another form'), { code: 'SQLITE_NOTADB' });
    }
    db.exec(`BEGIN;
      CREATE VIRTUAL TABLE entry USING fts5(${columns.join(', ')}, content='', contentless_delete=1, detail=column, tokenize="trigram case_sensitive 1");
      CREATE TABLE indexed_folder (id INTEGER PRIMARY KEY, uid INTEGER NOT NULL, modseq INTEGER NOT NULL, texts INTEGER NOT NULL) STRICT;
      PRAGMA user_version = ${format}; COMMIT`);
  }
  const add = db.prepare(
    `INSERT OR REPLACE INTO entry (rowid, ${columns.join(', ')}) VALUES (? << 32 | ?, ${columns.map(() => '?').join(', ')})`,
  );
  const remove = db.prepare('DELETE FROM entry WHERE rowid = (? << 32 | ?)');
  const done = db.prepare('INSERT OR REPLACE INTO indexed_folder (id, uid, modseq, texts) VALUES (?, ?, ?, ?)');
  const some = db.prepare(`SELECT id & 4294967295 AS uid FROM entry_docsize WHERE id >= (? << 32) AND id < (? << 32) LIMIT ${A_PIECE}`);
  const forget = db.prepare('DELETE FROM indexed_folder WHERE id = ?');
  const act = (work: IndexWork): boolean => {
    const { folder } = work;
    if (work.kind === 'write') {
      for (const { uid, values } of work.added) add.run(folder, uid, ...values);
      for (const uid of work.removed) remove.run(folder, uid);
      done.run(folder, work.state.uid, work.state.modseq, work.state.texts);
      return false;
    }
    forget.run(folder);
    const rows = some.all(folder, folder + 1) as { uid: number }[];
    for (const { uid } of rows) remove.run(folder, uid);
    return rows.length === A_PIECE;
  };
  return { db, act };
}
