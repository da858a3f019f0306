import { ThreadCalls, threadProgram } from '../threads/calls.ts';

/** A question to the database, with its values. */
export interface LongRead {
  sql: string;
  values: readonly unknown[];
}

/** Reads that take long, on a thread of their own, so that mail does not wait for sums. */
export class LongReads {
  private readonly calls: ThreadCalls<LongRead, unknown[]>;

  constructor(file: string) {
    this.calls = new ThreadCalls(threadProgram('read'), { file }, { name: 'the thread that reads' });
  }

  /** All rows of a question. Throws what the database says, and when the thread has ended. */
  all<Row>(sql: string, values: readonly unknown[]): Promise<Row[]> {
    return this.calls.ask({ sql, values }) as Promise<Row[]>;
  }

  /** Waits for the thread to close its connection, so that the last one to close the database is its owner, who leaves no log of it behind. */
  close(): void {
    this.calls.close('the database is closed');
  }
}
