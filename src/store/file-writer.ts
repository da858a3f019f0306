import { Worker } from 'node:worker_threads';

/** A text for a file: its name is the SHA-256 of its content; `places` are where it may be already. */
export interface TextFile {
  name: string;
  content: Buffer;
  places: string[];
}

export interface Written {
  /** Durable under their names, with all their octets. */
  names: string[];
  /** What went wrong with the others; null when there are none. */
  fault: string | null;
}

/**
 * What the thread runs, as plain JavaScript, since it is started from this text. Files of a group are written first and made durable then: the file
 * system commits once for several. What was not whole when something failed is taken away, and not told as written.
 */
const THREAD = `
const { parentPort, workerData } = require('node:worker_threads');
const { randomBytes } = require('node:crypto');
const { join } = require('node:path');
const fs = require('node:fs');
const GROUP = 16;
let folder = null;
const isWhole = ({ content, places }) =>
  places.some((place) => {
    try {
      return fs.statSync(place, { throwIfNoEntry: false })?.size === content.length;
    } catch {
      return false;
    }
  });
function syncFolder() {
  folder ??= fs.openSync(workerData.folder, 'r');
  fs.fsyncSync(folder);
}
function writeGroup(texts) {
  const open = [];
  try {
    for (const { name, content } of texts) {
      const temporary = join(workerData.folder, workerData.unfinished + randomBytes(12).toString('hex'));
      const one = { name, temporary, file: fs.openSync(temporary, 'wx', 0o600), renamed: false };
      open.push(one);
      for (let at = 0; at < content.length; ) at += fs.writeSync(one.file, content, at);
    }
    for (const { file } of open) fs.fdatasyncSync(file);
    for (const one of open) {
      fs.renameSync(one.temporary, join(workerData.folder, one.name));
      one.renamed = true;
    }
    syncFolder();
  } finally {
    for (const { file, temporary, renamed } of open) {
      fs.closeSync(file);
      if (!renamed) fs.unlinkSync(temporary);
    }
  }
}
parentPort.on('message', ({ number, texts }) => {
  const names = [];
  let fault = null;
  try {
    const there = texts.filter(isWhole);
    // It may have been renamed before something failed, and its name not be durable yet.
    if (there.length > 0) syncFolder();
    names.push(...there.map((one) => one.name));
    const missing = texts.filter((one) => !there.includes(one));
    for (let at = 0; at < missing.length; at += GROUP) {
      const group = missing.slice(at, at + GROUP);
      writeGroup(group);
      names.push(...group.map((one) => one.name));
    }
  } catch (error) {
    fault = error instanceof Error ? error.message : String(error);
  }
  parentPort.postMessage({ number, names, fault });
});
`;

/** Writes many small files on a thread of its own: whoever waits for a disk, or signs, does not meet them. The thread is made when it is first needed. */
export class FileWriter {
  private thread: Worker | null = null;
  private readonly asked = new Map<number, (written: Written) => void>();
  private last = 0;

  /** `unfinished` begins the name of a file that is not whole yet. */
  constructor(private readonly where: { folder: string; unfinished: string }) {}

  /** Makes texts durable as files; never rejects. */
  write(texts: readonly TextFile[]): Promise<Written> {
    const thread = this.running();
    this.last += 1;
    const number = this.last;
    return new Promise((resolve) => {
      this.asked.set(number, resolve);
      thread.postMessage({ number, texts });
    });
  }

  /** Ends the thread; what it was asked for counts as not written. */
  close(): void {
    const { thread } = this;
    this.thread = null;
    this.giveUp('no more is written');
    thread?.terminate().catch(() => {});
  }

  private running(): Worker {
    if (this.thread) return this.thread;
    const thread = new Worker(THREAD, { eval: true, workerData: this.where });
    thread.unref();
    thread.on('message', ({ number, names, fault }: Written & { number: number }) => {
      this.asked.get(number)?.({ names, fault });
      this.asked.delete(number);
    });
    const ended = (why: string): void => {
      if (this.thread !== thread) return;
      this.thread = null;
      this.giveUp(why);
    };
    thread.on('error', (error) => ended(`the thread that writes has ended: ${error instanceof Error ? error.message : String(error)}`));
    thread.on('exit', () => ended('the thread that writes has ended'));
    this.thread = thread;
    return thread;
  }

  private giveUp(fault: string): void {
    for (const resolve of this.asked.values()) resolve({ names: [], fault });
    this.asked.clear();
  }
}
