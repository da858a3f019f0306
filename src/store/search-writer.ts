import { join } from 'node:path';
import type { IndexedMessage } from '../core/mailbox/indexed.ts';
import { ThreadCalls, threadProgram } from '../threads/calls.ts';
import { COLUMNS, CUT, columnOf, type IndexedFolder, SEARCH_FILE } from './search-index.ts';

/** Goes up when the index is to be made anew. */
const FORMAT = 1;

/** What became of a piece of work; `broken`: the index was thrown away, and begins anew. */
export type Indexed = { kind: 'done'; more: boolean } | { kind: 'failed'; fault: string; isBroken: boolean };

/** Entries of messages, ready for the index. */
interface Entry {
  uid: number;
  values: string[];
}
export type IndexWork =
  | { kind: 'write'; folder: number; added: Entry[]; removed: readonly number[]; state: IndexedFolder }
  /** Takes all of a folder out, a piece at a time. */
  | { kind: 'drop'; folder: number };

/** What the thread that writes the index is made with. */
export interface IndexFile {
  file: string;
  columns: readonly string[];
  format: number;
}

/** Writes the index, on a thread of its own. */
export class SearchWriter {
  private readonly calls: ThreadCalls<IndexWork, Indexed>;

  constructor(directory: string) {
    const given: IndexFile = { file: join(directory, SEARCH_FILE), columns: COLUMNS, format: FORMAT };
    this.calls = new ThreadCalls(threadProgram('search'), given, { name: 'the thread' });
  }

  /** Takes messages of a folder in, and others out, and notes how far it has come. */
  write(folder: number, added: readonly IndexedMessage[], removed: readonly number[], state: IndexedFolder): Promise<Indexed> {
    const rows = added.map((one) => ({ uid: one.uid, values: valuesOf(one) }));
    return this.ask({ kind: 'write', folder, added: rows, removed, state });
  }

  /** Takes all of a folder out, a piece at a time; `more` says whether there is more. */
  drop(folder: number): Promise<Indexed> {
    return this.ask({ kind: 'drop', folder });
  }

  close(): void {
    this.calls.close('the index is closed');
  }

  private ask(work: IndexWork): Promise<Indexed> {
    return this.calls.ask(work).catch((error: Error) => ({ kind: 'failed', fault: error.message, isBroken: false }));
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
