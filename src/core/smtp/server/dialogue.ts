import { overhearLines } from '../../overhear.ts';
import type { ChunkReader } from '../chunk-reader.ts';
import type { DataReader } from '../data-reader.ts';
import { type OctetAccount, UNBOUNDED } from '../octet-budget.ts';
import { REPLIES, type Reply, replyLine } from '../replies.ts';
import type { Envelope } from './envelope.ts';
import type { Intent, Output, SessionSettings } from './intents.ts';

/** How what comes next is read. */
export type Mode =
  | { kind: 'command' }
  | { kind: 'sign-in'; mechanism: 'PLAIN' | 'LOGIN'; user: string | null }
  | { kind: 'data'; reader: DataReader }
  | { kind: 'chunk'; left: number; last: boolean }
  | { kind: 'closed' };

const MOST_ERRORS = 10;
/** In a row, of strangers: an old list has many that are gone, and must get through to those who are not. */
const MOST_REFUSALS = 300;
/** With more of its own words to send, the session waits until they have gone before it reads on; in characters. */
const BURST = 16 * 1024;

/** What the two sides have said so far, and what the server says next: all that a verb looks at and changes. */
export class Dialogue {
  helo: string | null = null;
  extended = false;
  user: string | null = null;
  secure: boolean;
  mode: Mode = { kind: 'command' };
  /** The message under way, once its sender was accepted. */
  envelope: Envelope | null = null;
  /** Its chunks (RFC 3030). */
  chunks: ChunkReader | null = null;
  /** STARTTLS was answered, and TLS has not begun. */
  startingTls = false;
  asked: Intent | null = null;
  readonly account: OctetAccount;
  private errors = 0;
  private refusals = 0;
  private outputs: Output[] = [];
  /** Characters of replies that were given out since the shell last said that they have gone. */
  private burst = 0;

  constructor(readonly settings: SessionSettings) {
    this.secure = settings.secure;
    this.account = settings.budget?.open(() => this.giveUpText()) ?? UNBOUNDED;
  }

  get isOpen(): boolean {
    return this.mode.kind !== 'closed';
  }

  /** Whether more may be read: nothing is being decided, and what was said has not piled up. */
  get listens(): boolean {
    return this.asked === null && this.isOpen && this.burst < BURST;
  }

  /** What was said has gone. */
  gone(): void {
    this.burst = 0;
  }

  take(): Output[] {
    const outputs = this.outputs;
    this.outputs = [];
    return outputs;
  }

  say(text: string): void {
    this.burst += text.length;
    overhearLines(this.settings.overhear, 'server', text);
    this.outputs.push({ kind: 'send', text });
  }

  put(output: Output): void {
    this.outputs.push(output);
  }

  reply(reply: Reply): void {
    this.say(replyLine(reply));
    if (reply.code < 500) return;
    // A refused recipient is no mistake of the client's: a long list may hold many. Whoever only guesses is stopped as well, later.
    if (reply.code >= 550) this.refusals += 1;
    else this.errors += 1;
    const isKnown = this.user !== null || this.settings.trusted;
    if (this.errors < MOST_ERRORS && (isKnown || this.refusals < MOST_REFUSALS)) return;
    this.say(replyLine(REPLIES.tooManyErrors(this.settings.hostName)));
    this.close();
  }

  ask(intent: Intent): void {
    this.asked = intent;
    this.put({ kind: 'ask', intent });
  }

  /** A recipient was accepted: whoever has one is no guesser. */
  recipientTaken(envelope: Envelope): void {
    envelope.recipients += 1;
    this.refusals = 0;
  }

  close(): void {
    this.endTransaction(true);
    this.mode = { kind: 'closed' };
    this.put({ kind: 'close' });
  }

  endTransaction(abandoned: boolean): void {
    if (this.envelope && abandoned) this.put({ kind: 'abandon' });
    this.envelope?.end();
    this.envelope = null;
    this.chunks = null;
    // A text that is being decided on is held until the answer.
    if (this.asked?.kind !== 'message') this.account.resize(0);
  }

  /** Others need the room: what was kept of the text is gone, and its end will be answered with that. */
  private giveUpText(): void {
    if (this.mode.kind === 'data') this.mode.reader.spoil('no-space');
    this.chunks?.spoil('no-space');
  }
}
