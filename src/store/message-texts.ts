import { createHash } from 'node:crypto';
import type { Database } from './database.ts';
import type { MessageFiles } from './message-files.ts';
import { filesInUse } from './messages.ts';

/** Larger texts go to a file at once: the database is for those that are gone again in a moment. */
const SMALL = 256 * 1024;
/** With this much waiting, texts go to files at once until some have been settled. */
const MOST_WAITING = 64 * 1024 * 1024;
/** Longer than the first retry takes: what a server puts off once never becomes a file. */
const SETTLE_AFTER_MS = 90_000;
/** With this much waiting, it is not waited that long. */
const MUCH_WAITING = MOST_WAITING / 2;
const SETTLE_AT_ONCE = 200;

/** A text that is about to be accepted. */
export interface HeldText {
  name: string;
  /** In the transaction that accepts: makes the text durable with it. */
  keep: () => void;
  /** After that transaction, whatever became of it. */
  release: (accepted: boolean) => void;
}

/**
 * Where message texts are. A small new one is committed with the rows that refer to it, so that accepting costs one shared fsync;
 * some moments later it becomes a file, many at a time, unless nothing needs it any more (most outgoing mail is gone by then).
 */
export class MessageTexts {
  private readonly waiting = new Map<string, Buffer>();
  private waitingBytes = 0;
  private timer: NodeJS.Timeout | null = null;
  private settling: Promise<void> | null = null;
  private stopped = false;

  constructor(
    private readonly db: Database,
    private readonly files: MessageFiles,
    private readonly onFault: (error: unknown) => void,
  ) {}

  async hold(content: Buffer): Promise<HeldText> {
    if (content.length > SMALL || this.waitingBytes > MOST_WAITING) {
      const file = await this.files.write(content);
      return { name: file, keep: () => {}, release: () => this.files.release(file) };
    }
    const name = createHash('sha256').update(content).digest('hex');
    return {
      name,
      keep: () => {
        this.db.run('INSERT OR IGNORE INTO unfiled_text (name, content) VALUES (?, ?)', name, content);
      },
      release: (accepted) => {
        if (!accepted || this.waiting.has(name)) return;
        this.waiting.set(name, content);
        this.waitingBytes += content.length;
        this.schedule();
      },
    };
  }

  /** The text, whole; `size` in octets where it is known. Throws TextLost when it is gone or cut short. */
  async read(name: string, size: number | null = null): Promise<Buffer> {
    return this.fresh(name) ?? this.files.read(name, size);
  }

  /** The text piece by piece, for who takes it slowly; rejects with TextLost before the first when it is not whole. */
  async pieces(name: string, size: number): Promise<AsyncIterable<Buffer>> {
    const fresh = this.fresh(name);
    if (!fresh) return this.files.pieces(name, size);
    return (async function* () {
      yield fresh;
    })();
  }

  private fresh(name: string): Buffer | undefined {
    return this.waiting.get(name) ?? this.db.one<{ content: Buffer }>('SELECT content FROM unfiled_text WHERE name = ?', name)?.content;
  }

  /** Makes files of what waits, and forgets what nothing needs. Also for what an earlier run left. */
  settle(): Promise<void> {
    this.settling ??= this.settleAll()
      .catch(this.onFault)
      .finally(() => {
        this.settling = null;
      });
    return this.settling;
  }

  /** Begins nothing new; what waits is safe in the database. */
  async stop(): Promise<void> {
    this.stopped = true;
    if (this.timer) clearTimeout(this.timer);
    await this.settling;
    this.files.close();
  }

  private schedule(): void {
    if (this.stopped) return;
    if (this.waitingBytes > MUCH_WAITING) this.settle().catch(this.onFault);
    if (this.timer) return;
    this.timer = setTimeout(() => {
      this.timer = null;
      this.settle().catch(this.onFault);
    }, SETTLE_AFTER_MS);
    this.timer.unref();
  }

  private async settleAll(): Promise<void> {
    const { db, files } = this;
    for (let after = ''; !this.stopped; ) {
      const names = db
        .all<{ name: string }>('SELECT name FROM unfiled_text WHERE name > ? ORDER BY name LIMIT ?', after, SETTLE_AT_ONCE)
        .map((row) => row.name);
      if (names.length === 0) return;
      after = names.at(-1) ?? '';
      const needed = new Set(filesInUse(db, names));
      const texts = names.flatMap((name) => {
        const content = needed.has(name) ? this.fresh(name) : undefined;
        return content === undefined ? [] : [{ name, content }];
      });
      const { names: written, fault } = await files.writeAll(texts);
      const isFile = new Set(written);
      const forget = (): string[] => {
        // What has come into use since it was looked at stays for the next time.
        const inUse = new Set(filesInUse(db, names));
        return names.filter(
          (name) => (isFile.has(name) || !inUse.has(name)) && db.run('DELETE FROM unfiled_text WHERE name = ?', name).changes === 1,
        );
      };
      const gone = await db.commit(forget).finally(() => {
        for (const name of written) files.release(name);
      });
      for (const name of gone) {
        this.waitingBytes -= this.waiting.get(name)?.length ?? 0;
        this.waiting.delete(name);
      }
      if (fault !== null) throw new Error(`texts could not be written as files: ${fault}`);
    }
  }
}
