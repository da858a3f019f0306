import { createHash } from 'node:crypto';
import { splitReturnPath } from './return-path.ts';
import type { CarriedFolder, CarriedMessage, CarryState, Sink } from './sink.ts';

const sha256 = (octets: Buffer): string => createHash('sha256').update(octets).digest('hex');

/** Messages that go together. */
const MOST_TOGETHER = 100;
const MOST_OCTETS = 1024 * 1024;

/** The mailbox takes no more: what is left waits for another time. */
export class MailboxRefused extends Error {}

/** Brings the messages of one mailbox to where they go, some at a time, folder by folder, and counts them. */
export class Carrier {
  private folder: CarriedFolder = { name: '', specialUse: null };
  private waiting: CarriedMessage[] = [];
  private octets = 0;
  /** How often each text came in this folder. */
  private copies = new Map<string, number>();
  private done = 0;
  private known = 0;

  constructor(
    private readonly sink: Sink,
    readonly part: number,
    /** Messages that are to come, as far as it is known. */
    public total: number,
    /** Messages that this transfer has taken already, before it had to begin again: those are not called known. */
    private ownBefore = 0,
  ) {}

  /** Messages that were put since it began. */
  taken = 0;

  get state(): CarryState {
    const { done, known, folder } = this;
    return { done, known, total: Math.max(this.total, done), folder: folder.name };
  }

  /** What comes now is of this folder. */
  async enter(folder: CarriedFolder): Promise<void> {
    if (folder.name === this.folder.name) return;
    await this.flush();
    this.folder = folder;
    this.copies = new Map();
  }

  async add(message: Omit<CarriedMessage, 'copy' | 'prefix' | 'file' | 'whole'>): Promise<void> {
    const { prefix, text } = splitReturnPath(message.text);
    const file = sha256(text);
    const whole = prefix === '' ? file : sha256(message.text);
    const copy = (this.copies.get(whole) ?? 0) + 1;
    this.copies.set(whole, copy);
    this.waiting.push({ ...message, prefix, text, file, whole, copy });
    this.octets += message.text.length;
    if (this.waiting.length >= MOST_TOGETHER || this.octets >= MOST_OCTETS) await this.flush();
  }

  /** Messages that need not come: they are there already. */
  skip(messages: number): void {
    const own = Math.min(messages, this.ownBefore);
    this.ownBefore -= own;
    this.done += messages;
    this.known += messages - own;
    this.tell();
  }

  /** One that can’t come. */
  leaveOut(what: string, why: string): void {
    this.done += 1;
    this.sink.leftOut(this.part, this.folder.name, what.slice(0, 300), why.slice(0, 500));
    this.tell();
  }

  /** Throws MailboxRefused when the mailbox takes no more. */
  async flush(): Promise<void> {
    if (this.waiting.length === 0) return;
    const some = this.waiting;
    this.waiting = [];
    this.octets = 0;
    const { refused, taken } = await this.sink.put(this.part, this.folder, some);
    this.taken += taken;
    this.done += some.length;
    this.tell();
    if (refused !== null) throw new MailboxRefused(refused);
  }

  /** How far it has come. */
  tell(): void {
    this.sink.progress(this.part, this.state);
  }
}
