import { type IndexedMessage, indexedMessage, LEAST_INDEXED } from '../core/mailbox/indexed.ts';
import type { FolderMessage } from '../core/mailbox/operations.ts';
import { isHeaderCut, type Outline, outlineInTurns, usualHeader } from '../core/mime/outline.ts';
import { breathe } from '../core/pieces.ts';
import { findIndexable, type Indexable, listExpunged, listFolderSizes, listMessages, missingUids } from '../store/folders.ts';
import { TextLost } from '../store/message-files.ts';
import { readOutlines } from '../store/outlines.ts';
import type { IndexedFolder, SearchIndex } from '../store/search-index.ts';
import type { Indexed, SearchWriter } from '../store/search-writer.ts';
import type { AccessParts } from './open-conversation.ts';

/** Messages that are taken in together. */
const A_PIECE = 100;
/** Octets of texts that are read for one piece. */
const MUCH = 4 * 1024 * 1024;
const A_TURN = 5000;
/** Folders that wait; with more, all are looked at. */
const MOST_WAITING = 100_000;

/** Keeps the index of folders up to date while nobody waits for it: one process does, for all. What it has not come to is looked at by each search. */
export class FolderIndexer {
  private waiting = new Set<number>();
  private isAll = false;
  private running: Promise<void> | null = null;
  private isStopped = false;

  constructor(
    private readonly parts: AccessParts,
    private readonly index: SearchIndex,
    private readonly writer: SearchWriter,
  ) {}

  /** Folders that have changed, or all. */
  add(folders: readonly number[] | 'all'): void {
    if (this.isStopped) return;
    if (folders === 'all' || this.waiting.size > MOST_WAITING) this.isAll = true;
    else for (const one of folders) this.waiting.add(one);
    this.begin();
  }

  private begin(): void {
    this.running ??= this.run()
      .catch((error: unknown) => {
        // What it read from may be closed already.
        if (!this.isStopped) this.parts.onFault('IMAP', '', error);
      })
      .finally(() => {
        this.running = null;
        // What came while it was ending.
        if (!this.isStopped && (this.isAll || this.waiting.size > 0)) this.begin();
      });
  }

  /** When nothing waits any more. */
  async quiet(): Promise<void> {
    while (this.running !== null) await this.running;
  }

  /** Begins nothing more; `quiet` says when it has ended what it does. */
  halt(): void {
    this.isStopped = true;
  }

  stop(): void {
    this.halt();
    // Who writes closes it last, and leaves no log of it behind.
    this.index.close();
    this.writer.close();
  }

  private async run(): Promise<void> {
    while (!this.isStopped && (this.isAll || this.waiting.size > 0)) {
      if (this.isAll) {
        this.isAll = false;
        await this.findAll();
      }
      const some = this.waiting;
      this.waiting = new Set();
      for (const folder of some) {
        if (this.isStopped) return;
        await this.follow(folder);
        await breathe();
      }
    }
  }

  /** All folders that are, or were, large enough. */
  private async findAll(): Promise<void> {
    const { db } = this.parts;
    for (let after = 0; !this.isStopped; ) {
      const some = listFolderSizes(db, after, A_TURN);
      for (const { id, messages } of some) if (messages >= LEAST_INDEXED) this.waiting.add(id);
      if (some.length < A_TURN) break;
      after = some.at(-1)?.id ?? 0;
      await breathe();
    }
    for (let after = 0; !this.isStopped; ) {
      const some = this.index.folders(after, A_TURN);
      for (const id of some) this.waiting.add(id);
      if (some.length < A_TURN) break;
      after = some.at(-1) ?? 0;
      await breathe();
    }
  }

  /** Brings one folder up to date. */
  private async follow(folder: number): Promise<void> {
    const { db } = this.parts;
    for (let now = findIndexable(db, folder); !this.isStopped; now = findIndexable(db, folder)) {
      const state = this.index.state(folder);
      if (!now) {
        if (!state || !(await this.dropAll(folder))) return;
        continue;
      }
      if (!state && now.messages < LEAST_INDEXED) return;
      // Another plan: all texts are taken in, or none is any more.
      const from = state?.texts === now.texts ? state : { uid: 0, modseq: state?.modseq ?? now.highestModseq, texts: now.texts };
      if (from.uid >= now.lastUid && from.modseq >= now.highestModseq) return;
      if (!(await this.takeIn(folder, now, from))) return;
    }
  }

  private async dropAll(folder: number): Promise<boolean> {
    for (let isMore = true; isMore && !this.isStopped; ) {
      const dropped = await this.writer.drop(folder);
      if (dropped.kind === 'failed') return this.failed(dropped);
      isMore = dropped.more;
    }
    return true;
  }

  /** One piece of what has come, and what was expunged since; false when it could not be kept. */
  private async takeIn(folder: number, now: Indexable, from: IndexedFolder): Promise<boolean> {
    const { db } = this.parts;
    const removed =
      now.forgottenModseq > from.modseq
        ? await this.goneOf(folder, from.uid)
        : listExpunged(db, folder, from.modseq, Number.MAX_SAFE_INTEGER);
    const some = listMessages(db, folder, from.uid + 1, now.lastUid, A_PIECE);
    const { added, upTo } = await this.entries(some, now.texts === 1);
    const uid = upTo ?? now.lastUid;
    const written = await this.writer.write(folder, added, removed, { uid, modseq: now.highestModseq, texts: now.texts });
    return written.kind === 'done' || this.failed(written);
  }

  /** Entries of some messages; of all, or up to a UID when their texts are long. */
  private async entries(messages: readonly FolderMessage[], withTexts: boolean): Promise<{ added: IndexedMessage[]; upTo: number | null }> {
    const outlines = readOutlines(
      this.parts.db,
      messages.flatMap((one) => one.outlineId ?? []),
      ['header', 'parts'],
    );
    const added: IndexedMessage[] = [];
    const made: { file: string; outline: Outline }[] = [];
    let octets = 0;
    for (const [place, one] of messages.entries()) {
      const known = one.outlineId === null ? undefined : outlines.get(one.outlineId);
      const text = withTexts || !known || isHeaderCut(known.header ?? '') ? await this.textOf(one) : null;
      octets += text?.length ?? 0;
      const outline = known ?? (text && (await outlineInTurns(text)));
      // A text that is lost can't be found by anything; nor is it looked for.
      if (!outline) continue;
      // Mail of old has none yet: whoever opens the folder will not wait for it then.
      if (!known) made.push({ file: one.file, outline: outline as Outline });
      const { header, parts } = outline as Outline;
      added.push(indexedMessage(one, { header: text && isHeaderCut(header) ? usualHeader(text) : header, parts }, withTexts ? text : null));
      if (octets > MUCH && place < messages.length - 1) return this.kept(made, { added, upTo: one.uid });
      if (text) await breathe();
    }
    return this.kept(made, { added, upTo: messages.length < A_PIECE ? null : (messages.at(-1)?.uid ?? null) });
  }

  private kept<T>(made: { file: string; outline: Outline }[], entries: T): T {
    if (made.length > 0) this.parts.port.keepOutlines(made);
    return entries;
  }

  private async textOf(one: FolderMessage): Promise<Buffer | null> {
    try {
      return await this.parts.texts.slice(one.file, one.size - one.prefix.length, 0, one.size);
    } catch (error) {
      if (error instanceof TextLost) return null;
      throw error;
    }
  }

  /** Entries whose messages are gone, where nobody remembers which went. */
  private async goneOf(folder: number, upTo: number): Promise<number[]> {
    const gone: number[] = [];
    for (let after = 0; after < upTo && !this.isStopped; ) {
      const some = this.index.entries(folder, after, A_TURN);
      gone.push(...missingUids(this.parts.db, folder, some));
      if (some.length < A_TURN) break;
      after = some.at(-1) ?? upTo;
      await breathe();
    }
    return gone;
  }

  private failed({ fault, isBroken }: Extract<Indexed, { kind: 'failed' }>): false {
    if (this.isStopped) return false;
    this.parts.onFault('IMAP', '', new Error(`the index of folders could not be written: ${fault}`));
    // It begins anew, with all.
    if (isBroken) this.isAll = true;
    return false;
  }
}
