import { type Address, needsUtf8 } from '../address/mailbox-address.ts';
import { bodyOffset, fieldsNamed, parseFields } from '../message/fields.ts';
import { sameAddress } from '../records/reverse-name.ts';
import { isBase64, readPlain } from '../sasl-plain.ts';
import { ChunkReader } from './chunk-reader.ts';
import { type Command, type MailParameters, parseCommand, type RecipientParameters } from './command.ts';
import { type DataDefect, DataReader, LONGEST_TEXT_LINE } from './data-reader.ts';
import { type OctetAccount, type OctetBudget, UNBOUNDED } from './octet-budget.ts';
import { REPLIES, type Reply, replyLine } from './replies.ts';

/** What the session needs decided; the shell answers with `answer`, and input waits until then. */
export type Intent =
  | { kind: 'sign-in'; user: string; password: string }
  | { kind: 'sender'; sender: Address | null; parameters: MailParameters }
  | { kind: 'recipient'; recipient: Address; parameters: RecipientParameters }
  /** RFC 1985: the mail that waits for a domain is asked for. */
  | { kind: 'start-queue'; argument: string }
  | { kind: 'message'; content: Buffer };

export type Output =
  | { kind: 'send'; text: string }
  | { kind: 'ask'; intent: Intent }
  /** The message under way is given up: whatever was reserved for it is free again. */
  | { kind: 'abandon' }
  /** Somebody tried to sign in without TLS, under that name if it was said. */
  | { kind: 'sign-in-in-clear'; user: string | null }
  | { kind: 'start-tls' }
  | { kind: 'close' };

export interface SessionSettings {
  hostName: string;
  service: 'inbound' | 'submission';
  maxMessageBytes: number;
  maxRecipients: number;
  tlsOffered: boolean;
  secure: boolean;
  /** What this host is reached at: its postmaster is known by them too (RFC 5321 §4.1.3). */
  addresses?: readonly string[];
  /** A client that may submit without signing in. */
  trusted?: boolean;
  /** Bounds what messages under way hold; without it each conversation is bounded by the largest message alone. */
  budget?: OctetBudget;
}

/** RFC 5321 §4.5.3.1.4 asks for 512; extensions and AUTH (RFC 4954 §4) need more. */
const LONGEST_COMMAND = 12_288;
const LARGEST_HEADER = 256 * 1024;
/** Each of them costs whoever reads it something, also when it is empty. */
const MOST_FIELDS = 2000;
const MOST_ERRORS = 10;
/** In a row, of strangers: an old list has many that are gone, and must get through to those who are not. */
const MOST_REFUSALS = 300;
const MOST_HOPS = 50;
/** With more of its own words to send, the session waits until they have gone before it reads on; in characters. */
const BURST = 16 * 1024;

/** RFC 3848 and RFC 6531 §4.3 */
export type Protocol = 'SMTP' | `${'ESMTP' | 'UTF8SMTP'}${'' | 'S' | 'A' | 'SA'}`;

/** What the session knows of the client when it asks for a decision. */
export interface SessionFacts {
  helo: string;
  protocol: Protocol;
  secure: boolean;
  user: string | null;
}

type Mode =
  | { kind: 'command' }
  | { kind: 'sign-in'; mechanism: 'PLAIN' | 'LOGIN'; user: string | null }
  | { kind: 'data'; reader: DataReader }
  | { kind: 'chunk'; left: number; last: boolean }
  | { kind: 'closed' };

/** The server's side of one SMTP conversation, without a socket: octets in, replies and intents out. */
export class ServerSession {
  helo: string | null = null;
  extended = false;
  user: string | null = null;
  secure: boolean;
  private mode: Mode = { kind: 'command' };
  private input: Buffer = Buffer.alloc(0);
  private early: Reply | null = null;
  private asked: Intent | null = null;
  private mail = false;
  private parameters: MailParameters | null = null;
  /** Chunks of the message under way (RFC 3030). */
  private chunks: ChunkReader | null = null;
  private recipients = 0;
  private errors = 0;
  private refusals = 0;
  private startingTls = false;
  private skippingLine = false;
  private outputs: Output[] = [];
  /** Characters of replies that were given out since the shell last said that they have gone. */
  private burst = 0;
  private readonly account: OctetAccount;

  constructor(private readonly settings: SessionSettings) {
    this.secure = settings.secure;
    this.account = settings.budget?.open(() => this.giveUpText()) ?? UNBOUNDED;
  }

  /** The greeting comes a little later: a client that speaks before it gets this reply, and nothing more. */
  awaitGreeting(early: Reply): void {
    this.early = early;
  }

  greet(): Output[] {
    this.early = null;
    if (this.mode.kind === 'closed') return [];
    this.reply(REPLIES.greeting(this.settings.hostName));
    return this.take();
  }

  /** RFC 3848 name for the Received field. */
  get protocol(): Protocol {
    if (!this.extended) return 'SMTP';
    // RFC 6531 §4.3
    const name = this.parameters?.smtputf8 ? 'UTF8SMTP' : 'ESMTP';
    return `${name}${this.secure ? 'S' : ''}${this.user === null ? '' : 'A'}` as Protocol;
  }

  /** Octets that wait while an intent is open; the shell stops reading when they grow. */
  get waiting(): number {
    return this.input.length;
  }

  get receivingMessage(): boolean {
    return this.mode.kind === 'data' || this.chunks !== null;
  }

  receive(bytes: Buffer): Output[] {
    // Between the reply to STARTTLS and TLS itself nothing is listened to (RFC 3207 §4.2).
    if (this.mode.kind === 'closed' || this.startingTls) return [];
    if (this.early) return this.end(this.early);
    this.input = this.input.length === 0 ? bytes : Buffer.concat([this.input, bytes]);
    this.advance();
    return this.take();
  }

  /** What was given out has gone: reads on where it stopped for that. */
  proceed(): Output[] {
    this.burst = 0;
    this.advance();
    return this.take();
  }

  /** The decision on the open intent. Accepted senders, recipients and sign-ins move the session on. */
  answer(decision: { accepted: boolean; reply: Reply }): Output[] {
    const intent = this.asked;
    this.asked = null;
    if (intent?.kind === 'message') this.account.resize(0);
    if (!intent || this.mode.kind === 'closed') return [];
    if (intent.kind === 'sign-in' && decision.accepted) this.user = intent.user;
    if (intent.kind === 'sender') {
      this.mail = decision.accepted;
      this.parameters = decision.accepted ? intent.parameters : null;
    }
    if (intent.kind === 'recipient' && decision.accepted) {
      this.recipients += 1;
      this.refusals = 0;
    }
    if (intent.kind === 'message') this.endTransaction(!decision.accepted);
    this.reply(decision.reply);
    this.advance();
    return this.take();
  }

  /** TLS is on: everything known and everything sent in clear is forgotten (RFC 3207 §4.2). */
  tlsStarted(): void {
    this.startingTls = false;
    this.secure = true;
    this.helo = null;
    this.extended = false;
    this.input = Buffer.alloc(0);
  }

  /** Ends from outside: time-out, stop. */
  end(reply: Reply): Output[] {
    if (this.mode.kind === 'closed') return [];
    this.say(replyLine(reply));
    this.close();
    return this.take();
  }

  /** The client has gone, with or without a word: what is held for its message is free. */
  gone(): void {
    this.mode = { kind: 'closed' };
    this.input = Buffer.alloc(0);
    this.chunks = null;
    if (this.asked?.kind !== 'message') this.account.resize(0);
  }

  private take(): Output[] {
    const outputs = this.outputs;
    this.outputs = [];
    return outputs;
  }

  private say(text: string): void {
    this.burst += text.length;
    this.outputs.push({ kind: 'send', text });
  }

  private reply(reply: Reply): void {
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

  private close(): void {
    this.endTransaction(true);
    this.mode = { kind: 'closed' };
    this.outputs.push({ kind: 'close' });
  }

  private ask(intent: Intent): void {
    this.asked = intent;
    this.outputs.push({ kind: 'ask', intent });
  }

  private endTransaction(abandoned: boolean): void {
    if (this.mail && abandoned) this.outputs.push({ kind: 'abandon' });
    this.mail = false;
    this.recipients = 0;
    this.parameters = null;
    this.chunks = null;
    // A text that is being decided on is held until the answer.
    if (this.asked?.kind !== 'message') this.account.resize(0);
  }

  /** Others need the room: what was kept of the text is gone, and its end will be answered with that. */
  private giveUpText(): void {
    if (this.mode.kind === 'data') this.mode.reader.spoil('no-space');
    this.chunks?.spoil('no-space');
  }

  private advance(): void {
    while (this.asked === null && this.mode.kind !== 'closed' && this.input.length > 0 && this.burst < BURST) {
      if (this.mode.kind === 'data') {
        const used = this.mode.reader.push(this.input);
        this.input = used === null ? Buffer.alloc(0) : this.input.subarray(used);
        if (used !== null) this.endOfData(this.mode.reader);
        continue;
      }
      if (this.mode.kind === 'chunk') {
        this.chunkOctets(this.mode);
        continue;
      }
      const end = this.input.indexOf(0x0a);
      if (end < 0) {
        if (this.input.length <= LONGEST_COMMAND) return;
        // The rest of an endless line is dropped without keeping it.
        this.skippingLine = true;
        this.input = Buffer.alloc(0);
        return;
      }
      const line = this.input.toString('latin1', 0, end).replace(/\r$/, '');
      this.input = this.input.subarray(end + 1);
      if (this.skippingLine || line.length > LONGEST_COMMAND) {
        this.skippingLine = false;
        // RFC 4954 §4: that ends an exchange under way.
        if (this.mode.kind === 'sign-in') this.mode = { kind: 'command' };
        this.reply(REPLIES.lineTooLong);
      } else if (this.mode.kind === 'sign-in') this.signInLine(line, this.mode);
      else this.command(parseCommand(line));
    }
  }

  private command(command: Command): void {
    switch (command.verb) {
      case 'EHLO':
      case 'HELO':
        return this.hello(command.verb, command.name);
      case 'STARTTLS':
        if (this.secure) return this.reply(REPLIES.tlsAlready);
        if (!this.settings.tlsOffered) return this.reply(REPLIES.tlsUnavailable);
        this.endTransaction(true);
        this.reply(REPLIES.startTls);
        this.input = Buffer.alloc(0);
        this.startingTls = true;
        this.outputs.push({ kind: 'start-tls' });
        return;
      case 'AUTH':
        return this.beginSignIn(command.mechanism, command.initial);
      case 'MAIL':
        return this.mailFrom(command.sender, command.parameters);
      case 'RCPT':
        return this.recipient(command.recipient, command.parameters);
      case 'RCPT-POSTMASTER':
        if (command.at !== null && !this.settings.addresses?.some((one) => sameAddress(one, command.at as string)))
          return this.reply(REPLIES.badAddress('that is no address of this host'));
        return this.recipient({ local: 'postmaster', domain: this.settings.hostName }, command.parameters);
      case 'BDAT':
        return this.beginChunk(command.size, command.last);
      case 'ETRN':
        if (this.settings.service !== 'inbound') return this.reply(REPLIES.unknownCommand);
        if (this.helo === null) return this.reply(REPLIES.greetFirst);
        // RFC 1985 §5: not within a transaction.
        if (this.mail) return this.reply(REPLIES.mailAlready);
        return this.ask({ kind: 'start-queue', argument: command.argument });
      case 'DATA':
        if (this.chunks) return this.reply(REPLIES.chunksBegun);
        if (!this.mail) return this.reply(REPLIES.mailFirst);
        if (this.recipients === 0) return this.reply(REPLIES.recipientFirst);
        this.mode = { kind: 'data', reader: new DataReader(this.settings.maxMessageBytes, this.account) };
        return this.reply(REPLIES.startData);
      case 'RSET':
        this.endTransaction(true);
        return this.reply(REPLIES.ok);
      case 'NOOP':
        return this.reply(REPLIES.ok);
      case 'HELP':
        return this.reply(REPLIES.help);
      case 'VRFY':
        return this.reply(REPLIES.verifyNo);
      case 'QUIT':
        this.say(replyLine(REPLIES.bye));
        return this.close();
      case 'unknown':
        return this.reply(REPLIES.unknownCommand);
      case 'invalid':
        if (command.of === 'utf8') return this.reply(REPLIES.utf8NotAsked);
        if (command.of === 'sender') return this.reply(REPLIES.badSenderAddress(command.reason));
        return this.reply(command.of === 'recipient' ? REPLIES.badAddress(command.reason) : REPLIES.badArgument(command.reason));
    }
  }

  private hello(verb: 'EHLO' | 'HELO', name: string): void {
    this.endTransaction(true);
    this.helo = name;
    this.extended = verb === 'EHLO';
    if (!this.extended) return this.reply({ code: 250, status: null, text: this.settings.hostName });
    const lines = [
      `${this.settings.hostName} greets you`,
      'PIPELINING',
      `SIZE ${this.settings.maxMessageBytes}`,
      '8BITMIME',
      'ENHANCEDSTATUSCODES',
      'DSN',
      'SMTPUTF8',
      'CHUNKING',
      ...(this.settings.service === 'inbound' ? ['ETRN'] : []),
      ...(this.settings.tlsOffered && !this.secure ? ['STARTTLS'] : []),
      ...(this.settings.service === 'submission' && this.secure ? ['AUTH PLAIN LOGIN'] : []),
    ];
    const text = lines.map((line, at) => `250${at === lines.length - 1 ? ' ' : '-'}${line}\r\n`).join('');
    this.say(text);
  }

  private beginSignIn(mechanism: string, initial: string | null): void {
    if (this.settings.service !== 'submission') return this.reply(REPLIES.signInNotHere);
    if (!this.secure) {
      this.outputs.push({ kind: 'sign-in-in-clear', user: mechanism === 'PLAIN' && initial ? (readPlain(initial)?.user ?? null) : null });
      return this.reply(REPLIES.signInNeedsTls);
    }
    if (this.helo === null) return this.reply(REPLIES.greetFirst);
    if (this.user !== null) return this.reply(REPLIES.signedInAlready);
    if (this.mail) return this.reply(REPLIES.mailAlready);
    if (mechanism !== 'PLAIN' && mechanism !== 'LOGIN') return this.reply(REPLIES.mechanismUnknown);
    const mode = { kind: 'sign-in', mechanism, user: null } as const;
    this.mode = mode;
    // RFC 4954 §4: "=" stands for an empty initial response.
    if (initial !== null) return this.signInLine(initial === '=' ? '' : initial, mode);
    this.prompt(mechanism === 'LOGIN' ? 'User name:' : '');
  }

  private prompt(text: string): void {
    this.say(`334 ${Buffer.from(text).toString('base64')}\r\n`);
  }

  private signInLine(line: string, mode: { mechanism: 'PLAIN' | 'LOGIN'; user: string | null }): void {
    this.mode = { kind: 'command' };
    if (line === '*') return this.reply(REPLIES.signInCancelled);
    if (mode.mechanism === 'PLAIN') {
      const said = readPlain(line);
      return said ? this.ask({ kind: 'sign-in', ...said }) : this.reply(REPLIES.signInBroken);
    }
    if (!isBase64(line)) return this.reply(REPLIES.signInBroken);
    const text = Buffer.from(line, 'base64').toString('utf8');
    if (mode.user !== null) return this.ask({ kind: 'sign-in', user: mode.user, password: text });
    this.mode = { kind: 'sign-in', mechanism: 'LOGIN', user: text };
    this.prompt('Password:');
  }

  private mailFrom(sender: Address | null, parameters: MailParameters): void {
    if (this.helo === null) return this.reply(REPLIES.greetFirst);
    if (this.mail) return this.reply(REPLIES.mailAlready);
    if (this.settings.service === 'submission' && !this.settings.trusted) {
      if (!this.secure) return this.reply(REPLIES.tlsFirst);
      if (this.user === null) return this.reply(REPLIES.signInFirst);
    }
    const { size } = parameters;
    if (size !== null && size > this.settings.maxMessageBytes) return this.reply(REPLIES.tooBig(this.settings.maxMessageBytes));
    this.ask({ kind: 'sender', sender, parameters });
  }

  private recipient(recipient: Address, parameters: RecipientParameters): void {
    if (!this.mail) return this.reply(REPLIES.mailFirst);
    if (this.recipients >= this.settings.maxRecipients) return this.reply(REPLIES.tooManyRecipients);
    if (needsUtf8(recipient.local) && !this.parameters?.smtputf8) return this.reply(REPLIES.utf8NotAsked);
    this.ask({ kind: 'recipient', recipient, parameters });
  }

  /** The octets of a chunk follow its command whatever is said to it, so they are always read (RFC 3030 §2). */
  private beginChunk(size: number, last: boolean): void {
    if (this.mail && this.recipients > 0) this.chunks ??= new ChunkReader(this.settings.maxMessageBytes, this.account);
    this.mode = { kind: 'chunk', left: size, last };
    if (size === 0) this.endOfChunk(last);
  }

  private chunkOctets(mode: Mode & { kind: 'chunk' }): void {
    const part = this.input.subarray(0, mode.left);
    this.input = this.input.subarray(part.length);
    this.chunks?.push(part);
    mode.left -= part.length;
    if (mode.left === 0) this.endOfChunk(mode.last);
  }

  private endOfChunk(last: boolean): void {
    this.mode = { kind: 'command' };
    const { chunks } = this;
    if (!chunks) return this.reply(this.mail ? REPLIES.recipientFirst : REPLIES.mailFirst);
    if (!last) return this.reply(REPLIES.ok);
    this.chunks = null;
    this.endOfText(chunks.end());
  }

  private endOfData(reader: DataReader): void {
    this.mode = { kind: 'command' };
    this.endOfText(reader);
  }

  private endOfText(text: { content: Buffer; defect: DataDefect | null }): void {
    const refusal = this.textRefusal(text);
    if (!refusal) return this.ask({ kind: 'message', content: text.content });
    this.endTransaction(true);
    this.reply(refusal);
  }

  private textRefusal(reader: { content: Buffer; defect: DataDefect | null }): Reply | null {
    if (reader.defect === 'no-space') return REPLIES.busy;
    if (reader.defect === 'too-big') return REPLIES.tooBig(this.settings.maxMessageBytes);
    if (reader.defect === 'bare-line-end') return REPLIES.bareLineEnd;
    if (reader.defect === 'line-too-long') return REPLIES.textLineTooLong(LONGEST_TEXT_LINE);
    // RFC 5322 §2.2.3: what begins with a blank continues a field, and the one before it would be ours.
    if (reader.content[0] === 0x20 || reader.content[0] === 0x09) return REPLIES.beginsWithBlank;
    // RFC 5321 §2.3.8, RFC 5322 §2.2: text holds no NUL, and programs end at one or not.
    if (reader.content.includes(0)) return REPLIES.holdsNul;
    if (bodyOffset(reader.content) > LARGEST_HEADER) return REPLIES.headerTooBig(LARGEST_HEADER);
    const fields = parseFields(reader.content);
    if (fields.length > MOST_FIELDS) return REPLIES.tooManyFields(MOST_FIELDS);
    return fieldsNamed(fields, 'Received').length > MOST_HOPS ? REPLIES.looping : null;
  }
}
