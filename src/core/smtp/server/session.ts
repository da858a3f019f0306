import { HIDDEN, NOT_A_COMMAND, overhearLines } from '../../overhear.ts';
import { REPLIES, type Reply, replyLine } from '../replies.ts';
import { Dialogue } from './dialogue.ts';
import type { Output, Protocol, SessionSettings } from './intents.ts';
import { endOfText } from './text.ts';
import { signInLine } from './verbs/auth.ts';
import { endOfChunk } from './verbs/bdat.ts';
import { doCommand, isVerb } from './verbs.ts';

/** RFC 5321 §4.5.3.1.4 asks for 512; extensions and AUTH (RFC 4954 §4) need more. */
const LONGEST_COMMAND = 12_288;
const NOTHING = Buffer.alloc(0);

/** The server's side of one SMTP conversation, without a socket: octets in, replies and intents out. */
export class ServerSession {
  private readonly dialogue: Dialogue;
  private input: Buffer = NOTHING;
  private early: Reply | null = null;
  private skippingLine = false;

  constructor(settings: SessionSettings) {
    this.dialogue = new Dialogue(settings);
  }

  get helo(): string | null {
    return this.dialogue.helo;
  }
  get user(): string | null {
    return this.dialogue.user;
  }
  get secure(): boolean {
    return this.dialogue.secure;
  }

  /** RFC 3848 name for the Received field. */
  get protocol(): Protocol {
    const { extended, envelope, secure, user } = this.dialogue;
    if (!extended) return 'SMTP';
    // RFC 6531 §4.3
    const name = envelope?.parameters.smtputf8 ? 'UTF8SMTP' : 'ESMTP';
    return `${name}${secure ? 'S' : ''}${user === null ? '' : 'A'}` as Protocol;
  }

  /** Octets that wait while an intent is open; the shell stops reading when they grow. */
  get waiting(): number {
    return this.input.length;
  }

  get receivingMessage(): boolean {
    return this.dialogue.mode.kind === 'data' || this.dialogue.chunks !== null;
  }

  /** The greeting comes a little later: a client that speaks before it gets this reply, and nothing more. */
  awaitGreeting(early: Reply): void {
    this.early = early;
  }

  greet(): Output[] {
    const { dialogue } = this;
    this.early = null;
    if (!dialogue.isOpen) return [];
    dialogue.reply(REPLIES.greeting(dialogue.settings.hostName));
    return dialogue.take();
  }

  receive(bytes: Buffer): Output[] {
    // Between the reply to STARTTLS and TLS itself nothing is listened to (RFC 3207 §4.2).
    if (!this.dialogue.isOpen || this.dialogue.startingTls) return [];
    if (this.early) return [{ kind: 'spoke-early', reply: this.early }, ...this.end(this.early)];
    this.input = this.input.length === 0 ? bytes : Buffer.concat([this.input, bytes]);
    return this.advance();
  }

  /** What was given out has gone: reads on where it stopped for that. */
  proceed(): Output[] {
    this.dialogue.gone();
    return this.advance();
  }

  /** The decision on the open intent. Accepted senders, recipients and sign-ins move the session on. */
  answer(decision: { accepted: boolean; reply: Reply }): Output[] {
    const { dialogue } = this;
    const intent = dialogue.asked;
    dialogue.asked = null;
    if (intent?.kind === 'message') dialogue.account.resize(0);
    if (!intent || !dialogue.isOpen) return [];
    if (intent.kind === 'sign-in' && decision.accepted) dialogue.user = intent.user;
    if (intent.kind === 'sender') {
      if (decision.accepted) dialogue.envelope = intent.envelope;
      else intent.envelope.end();
    }
    if (intent.kind === 'recipient' && decision.accepted) dialogue.recipientTaken(intent.envelope);
    if (intent.kind === 'message') dialogue.endTransaction(!decision.accepted);
    dialogue.reply(decision.reply);
    return this.advance();
  }

  /** TLS is on: everything known and everything sent in clear is forgotten (RFC 3207 §4.2). */
  tlsStarted(): void {
    const { dialogue } = this;
    dialogue.startingTls = false;
    dialogue.secure = true;
    dialogue.helo = null;
    dialogue.extended = false;
    this.input = NOTHING;
  }

  /** Ends from outside: time-out, stop. */
  end(reply: Reply): Output[] {
    const { dialogue } = this;
    if (!dialogue.isOpen) return [];
    dialogue.say(replyLine(reply));
    dialogue.close();
    return dialogue.take();
  }

  /** The client has gone, with or without a word: what is held for its message is free. */
  gone(): void {
    const { dialogue } = this;
    dialogue.mode = { kind: 'closed' };
    this.input = NOTHING;
    dialogue.endTransaction(false);
  }

  private advance(): Output[] {
    const { dialogue } = this;
    while (dialogue.listens && this.input.length > 0) {
      const { mode } = dialogue;
      if (mode.kind === 'data') {
        const used = mode.reader.push(this.input);
        this.input = used === null ? NOTHING : this.input.subarray(used);
        if (used === null) continue;
        dialogue.mode = { kind: 'command' };
        endOfText(dialogue, mode.reader);
      } else if (mode.kind === 'chunk') {
        const part = this.input.subarray(0, mode.left);
        this.input = this.input.subarray(part.length);
        dialogue.chunks?.push(part);
        mode.left -= part.length;
        if (mode.left === 0) endOfChunk(dialogue, mode.last);
      } else if (!this.line()) break;
    }
    return dialogue.take();
  }

  /** Takes the next line of the input; false when it is not whole yet. */
  private line(): boolean {
    const { dialogue } = this;
    const end = this.input.indexOf(0x0a);
    if (end < 0) {
      if (this.input.length <= LONGEST_COMMAND) return false;
      // The rest of an endless line is dropped without keeping it.
      this.skippingLine = true;
      this.input = NOTHING;
      return false;
    }
    const line = this.input.toString('latin1', 0, end).replace(/\r$/, '');
    this.input = this.input.subarray(end + 1);
    const { mode } = dialogue;
    if (dialogue.settings.overhear)
      overhearLines(dialogue.settings.overhear, 'client', mode.kind === 'sign-in' ? HIDDEN : withoutSecret(line));
    if (this.skippingLine || line.length > LONGEST_COMMAND) {
      this.skippingLine = false;
      // RFC 4954 §4: that ends an exchange under way.
      if (mode.kind === 'sign-in') dialogue.mode = { kind: 'command' };
      dialogue.reply(REPLIES.lineTooLong);
    } else if (mode.kind === 'sign-in') signInLine(dialogue, line, mode);
    else doCommand(dialogue, line);
    // What was sent in clear behind STARTTLS is not read (RFC 3207 §4.2).
    if (dialogue.startingTls) this.input = NOTHING;
    return true;
  }
}

/** AUTH may bring the password at once (RFC 4954 §4), and come too late or too early. */
const withoutSecret = (line: string): string =>
  isVerb(line.split(' ', 1)[0] ?? '') ? line.replace(/^(auth\s+\S+)\s+.*$/is, `$1 ${HIDDEN}`) : NOT_A_COMMAND;
