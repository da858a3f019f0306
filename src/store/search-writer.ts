import { createRequire } from 'node:module';
import { join } from 'node:path';
import { Worker } from 'node:worker_threads';
import type { IndexedMessage } from '../core/mailbox/indexed.ts';
import { COLUMNS, CUT, columnOf, type IndexedFolder, SEARCH_FILE } from './search-index.ts';

/** Goes up when the index is to be made anew. */
const FORMAT = 1;

/**
 * What the thread runs, as plain JavaScript, since it is started from this text. An index that can't be read, or is of another form, is thrown away:
 * all of it can be made again. It is not waited for until it is on disk: what a crash takes is made again, too.
 */
const THREAD = `
const { parentPort, workerData } = require('node:worker_threads');
const { rmSync } = require('node:fs');
const SQLite = require(workerData.engine);
const { file, columns, format } = workerData;
const A_PIECE = 500;
let db = null;
let statements;
function begin() {
  db = new SQLite(file);
  db.pragma('journal_mode = WAL');
  db.pragma('synchronous = NORMAL');
  db.pragma('busy_timeout = 10000');
  if (db.pragma('user_version', { simple: true }) !== format) {
    if (db.prepare('SELECT count(*) AS n FROM sqlite_master').get().n > 0) throw Object.assign(new Error('another form'), { code: 'SQLITE_NOTADB' });
    db.exec(\`BEGIN;
      CREATE VIRTUAL TABLE entry USING fts5(\${columns.join(', ')}, content='', contentless_delete=1, detail=column, tokenize="trigram case_sensitive 1");
      CREATE TABLE indexed_folder (id INTEGER PRIMARY KEY, uid INTEGER NOT NULL, modseq INTEGER NOT NULL, texts INTEGER NOT NULL) STRICT;
      PRAGMA user_version = \${format}; COMMIT\`);
  }
  statements = {
    add: db.prepare(\`INSERT OR REPLACE INTO entry (rowid, \${columns.join(', ')}) VALUES (? << 32 | ?, \${columns.map(() => '?').join(', ')})\`),
    remove: db.prepare('DELETE FROM entry WHERE rowid = (? << 32 | ?)'),
    done: db.prepare('INSERT OR REPLACE INTO indexed_folder (id, uid, modseq, texts) VALUES (?, ?, ?, ?)'),
    some: db.prepare('SELECT id & 4294967295 AS uid FROM entry_docsize WHERE id >= (? << 32) AND id < (? << 32) LIMIT ' + A_PIECE),
    forget: db.prepare('DELETE FROM indexed_folder WHERE id = ?'),
  };
}
function close() {
  try {
    db?.close();
  } catch {}
  db = null;
}
function write({ folder, added, removed, state }) {
  for (const { uid, values } of added) statements.add.run(folder, uid, ...values);
  for (const uid of removed) statements.remove.run(folder, uid);
  statements.done.run(folder, state.uid, state.modseq, state.texts);
}
function drop(folder) {
  statements.forget.run(folder);
  const some = statements.some.all(folder, folder + 1);
  for (const { uid } of some) statements.remove.run(folder, uid);
  return some.length === A_PIECE;
}
parentPort.on('message', (asked) => {
  if (asked.work === 'close') {
    close();
    Atomics.store(workerData.isClosed, 0, 1);
    Atomics.notify(workerData.isClosed, 0);
    return;
  }
  try {
    if (!db) begin();
    const more = db.transaction(() => (asked.work === 'drop' ? drop(asked.folder) : write(asked)))();
    parentPort.postMessage({ number: asked.number, more: more === true });
  } catch (error) {
    close();
    const isBroken = /^SQLITE_(CORRUPT|NOTADB)/.test(error.code ?? '');
    if (isBroken) for (const end of ['', '-wal', '-shm']) rmSync(file + end, { force: true });
    parentPort.postMessage({ number: asked.number, fault: error.message, isBroken });
  }
});
`;
const ENGINE = createRequire(import.meta.url).resolve('better-sqlite3');
const CLOSING_MS = 2000;

/** What became of a piece of work; `broken`: the index was thrown away, and begins anew. */
export type Indexed = { kind: 'done'; more: boolean } | { kind: 'failed'; fault: string; isBroken: boolean };

/** Writes the index, on a thread of its own, which begins with the first piece of work. */
export class SearchWriter {
  private thread: Worker | null = null;
  private readonly asked = new Map<number, (what: Indexed) => void>();
  private isClosed = new Int32Array(new SharedArrayBuffer(4));
  private last = 0;

  constructor(private readonly directory: string) {}

  /** Takes messages of a folder in, and others out, and notes how far it has come. */
  write(folder: number, added: readonly IndexedMessage[], removed: readonly number[], state: IndexedFolder): Promise<Indexed> {
    const rows = added.map((one) => ({ uid: one.uid, values: valuesOf(one) }));
    return this.ask({ work: 'write', folder, added: rows, removed, state });
  }

  /** Takes all of a folder out, a piece at a time; `more` says whether there is more. */
  drop(folder: number): Promise<Indexed> {
    return this.ask({ work: 'drop', folder });
  }

  close(): void {
    const { thread } = this;
    this.thread = null;
    this.giveUp('the index is closed');
    if (!thread) return;
    thread.postMessage({ work: 'close' });
    Atomics.wait(this.isClosed, 0, 0, CLOSING_MS);
    thread.terminate().catch(() => {});
  }

  private ask(work: object): Promise<Indexed> {
    const thread = this.running();
    this.last += 1;
    const number = this.last;
    return new Promise((resolve) => {
      this.asked.set(number, resolve);
      thread.postMessage({ number, ...work });
    });
  }

  private running(): Worker {
    if (this.thread) return this.thread;
    this.isClosed = new Int32Array(new SharedArrayBuffer(4));
    const thread = new Worker(THREAD, {
      eval: true,
      workerData: { engine: ENGINE, file: join(this.directory, SEARCH_FILE), columns: COLUMNS, format: FORMAT, isClosed: this.isClosed },
    });
    thread.unref();
    thread.on('message', ({ number, more, fault, isBroken }: { number: number; more: boolean; fault?: string; isBroken?: boolean }) => {
      const resolve = this.asked.get(number);
      this.asked.delete(number);
      resolve?.(fault === undefined ? { kind: 'done', more } : { kind: 'failed', fault, isBroken: isBroken === true });
    });
    const ended = (why: string): void => {
      if (this.thread !== thread) return;
      this.thread = null;
      this.giveUp(why);
    };
    thread.on('error', (error) => ended(error instanceof Error ? error.message : String(error)));
    thread.on('exit', () => ended('the thread has ended'));
    this.thread = thread;
    return thread;
  }

  private giveUp(fault: string): void {
    for (const resolve of this.asked.values()) resolve({ kind: 'failed', fault, isBroken: false });
    this.asked.clear();
  }
}

const valuesOf = ({ fields, text, isCut }: IndexedMessage): string[] =>
  COLUMNS.map((column) => {
    if (column === 'text') return plain(text);
    if (column === 'cut') return isCut ? CUT : '';
    return plain(Object.entries(fields).find(([name]) => columnOf(name as keyof typeof fields) === column)?.[1] ?? '');
  });
/** As the database keeps letters; what a NUL parts can be found on neither side of it together. */
const plain = (letters: string): string => letters.replaceAll('\0', ' ');
