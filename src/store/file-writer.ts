import { ThreadCalls, threadProgram } from '../threads/calls.ts';

/** A text for a file: its name is the SHA-256 of its content; `places` are where it may be already. */
export interface TextFile {
  name: string;
  content: Uint8Array;
  places: string[];
}

export interface Written {
  /** Durable under their names, with all their octets. */
  names: string[];
  /** What went wrong with the others; null when there are none. */
  fault: string | null;
}

/** Where files are written; `unfinished` begins the name of one that is not whole yet. */
export interface FilePlace {
  folder: string;
  unfinished: string;
}

/** Writes many small files on a thread of its own: whoever waits for a disk, or signs, does not meet them. */
export class FileWriter {
  private readonly calls: ThreadCalls<readonly TextFile[], Written>;

  constructor(where: FilePlace) {
    this.calls = new ThreadCalls(threadProgram('file'), where, { name: 'the thread that writes' });
  }

  /** Makes texts durable as files; never rejects. */
  write(texts: readonly TextFile[]): Promise<Written> {
    return this.calls.ask(texts).catch((error: Error) => ({ names: [], fault: error.message }));
  }

  /** Ends the thread; what it was asked for counts as not written. */
  close(): void {
    this.calls.stop('no more is written').catch(() => {});
  }
}
