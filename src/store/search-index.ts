import { statSync } from 'node:fs';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { INDEXED_FIELDS, type IndexedField, type Wanted } from '../core/mailbox/indexed.ts';
import { breathe } from '../core/pieces.ts';
import { Statements } from './statements.ts';

/** The index of what messages say, beside the database: it can be made anew from it at any time. */
export const SEARCH_FILE = 'search.db';

/** UIDs that are looked at in one turn, and those of them that are found: a few milliseconds' worth of each. */
const A_WINDOW = 200_000;
const MOST_FOUND = 10_000;
/** More pieces of three letters narrow no further. */
const MOST_PIECES = 24;

/** Names of fields are words of SQL. */
export const columnOf = (field: IndexedField): string => `in_${field.replaceAll('-', '_')}`;
/** Of a message's entry: its place is its folder's number and its UID, so that a folder's entries lie together. */
export const COLUMNS = [...INDEXED_FIELDS.map(columnOf), 'text', 'cut'];
/** What stands in the column `cut` of a message that is longer than what is indexed of it. */
export const CUT = '***';

/** How far a folder is indexed. */
export interface IndexedFolder {
  /** The last UID that is. */
  uid: number;
  /** What was expunged up to there is taken out. */
  modseq: number;
  /** Whether the texts are, too. */
  texts: 0 | 1;
}

const STATE = 'SELECT uid, modseq, texts FROM indexed_folder WHERE id = ?';
const MATCHING =
  'SELECT rowid & 4294967295 AS uid FROM entry WHERE entry MATCH ? AND rowid BETWEEN (? << 32 | ?) AND (? << 32 | ?) ORDER BY rowid LIMIT ?';

/** Reads the index; whoever finds none, or a broken one, looks at messages themselves. */
export class SearchIndex {
  private readonly file: string;
  private open: { sqlite: SQLite.Database; statements: Statements; inode: number } | null = null;

  constructor(directory: string) {
    this.file = join(directory, SEARCH_FILE);
  }

  state(folder: number): IndexedFolder | null {
    return this.read((statements) => (statements.of(STATE).get(folder) as IndexedFolder | undefined) ?? null);
  }

  /** Folders that are indexed, after a number, at most so many. */
  folders(after: number, most: number): number[] {
    return (
      this.read((statements) =>
        (statements.of('SELECT id FROM indexed_folder WHERE id > ? ORDER BY id LIMIT ?').all(after, most) as { id: number }[]).map(
          (one) => one.id,
        ),
      ) ?? []
    );
  }

  /** UIDs of entries of a folder, after a UID, at most so many. */
  entries(folder: number, after: number, most: number): number[] {
    return (
      this.read((statements) =>
        uidsOf(
          statements
            .of('SELECT id & 4294967295 AS uid FROM entry_docsize WHERE id > (? << 32 | ?) AND id < (? << 32) ORDER BY id LIMIT ?')
            .all(folder, after, folder + 1, most),
        ),
      ) ?? []
    );
  }

  /** In ascending windows of UIDs, which of them may hold what is wanted; each with the last UID that is decided by then. */
  async *find(folder: number, wanted: Wanted): AsyncGenerator<{ uids: number[]; upTo: number }> {
    for (let from = 1; ; ) {
      // How far it has come is read with it: it may begin anew meanwhile.
      const at = from;
      const found = this.read((statements, sqlite) => sqlite.transaction(() => window(statements, folder, wanted, at))());
      if (!found) return;
      from = found.upTo + 1;
      yield found;
      await breathe();
    }
  }

  close(): void {
    this.open?.sqlite.close();
    this.open = null;
  }

  /** Null when there is no index, or none that can be read. */
  private read<T>(work: (statements: Statements, sqlite: SQLite.Database) => T): T | null {
    try {
      // It may have been made anew.
      const inode = statSync(this.file).ino;
      if (this.open?.inode !== inode) this.close();
      this.open ??= this.opened(inode);
      return work(this.open.statements, this.open.sqlite);
    } catch {
      this.close();
      return null;
    }
  }

  private opened(inode: number) {
    const sqlite = new SQLite(this.file, { readonly: true });
    return { sqlite, statements: new Statements(sqlite), inode };
  }
}

const uidsOf = (rows: unknown[]): number[] => (rows as { uid: number }[]).map((one) => one.uid);

/** UIDs of a window that may hold what is wanted; null when the index can't say more. */
function window(statements: Statements, folder: number, wanted: Wanted, from: number): { uids: number[]; upTo: number } | null {
  const state = statements.of(STATE).get(folder) as IndexedFolder | undefined;
  const match = state ? matchOf(wanted, state.texts === 1) : null;
  if (!state || match === null || from > state.uid) return null;
  const upTo = Math.min(state.uid, from + A_WINDOW - 1);
  const uids = uidsOf(statements.of(MATCHING).all(match, folder, from, folder, upTo, MOST_FOUND));
  return { uids, upTo: uids.length === MOST_FOUND ? (uids.at(-1) ?? upTo) : upTo };
}

/** What is wanted as a question of full-text search; null when the index can't narrow it down. */
function matchOf(wanted: Wanted, hasTexts: boolean): string | null {
  switch (wanted.kind) {
    case 'and': {
      const all = wanted.all.flatMap((one) => matchOf(one, hasTexts) ?? []);
      return all.length === 0 ? null : all.join(' AND ');
    }
    case 'or': {
      const all = wanted.all.map((one) => matchOf(one, hasTexts));
      return all.includes(null) ? null : `(${all.join(' OR ')})`;
    }
    case 'field':
      return piecesOf(wanted.letters, columnOf(wanted.field));
    case 'text': {
      const pieces = hasTexts ? piecesOf(wanted.letters, 'text') : null;
      return pieces && `(${pieces} OR {cut} : "${CUT}")`;
    }
  }
}

/** That all pieces of three letters are there; null for what has fewer. */
function piecesOf(letters: string, column: string): string | null {
  const all = [...letters];
  if (all.includes('\0')) return null;
  const pieces = new Set(all.slice(0, -2).map((_one, at) => all.slice(at, at + 3).join('')));
  return pieces.size === 0
    ? null
    : `({${column}} : (${[...pieces]
        .slice(0, MOST_PIECES)
        .map((one) => `"${one.replaceAll('"', '""')}"`)
        .join(' AND ')}))`;
}
