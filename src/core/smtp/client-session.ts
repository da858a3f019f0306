import { needsUtf8 } from '../address/mailbox-address.ts';
import { HIDDEN, overhearLines } from '../overhear.ts';
import type { ClientOptions, ClientOutput, ClientStage, Envelope, RecipientOutcome, RemoteReply, WireStep } from './client-intents.ts';
import { base64, EXPECTED, offerOf } from './client-replies.ts';
import { ENDLESS, LONGEST_REPLY, outOfStep, ReplyReader } from './reply-reader.ts';

/** The client's side of SMTP, without a socket (RFC 5321 §3); TLS as asked (RFC 3207), signing in (RFC 4954), PIPELINING, DSN and SMTPUTF8 where offered. */
export class ClientSession {
  private step: WireStep = 'greeting';
  private input = '';
  private readonly reader = new ReplyReader();
  private offers = new Map<string, string>();
  private envelope: Envelope | null = null;
  private mailReply: RemoteReply | null = null;
  private userAsked = false;
  private sentText = false;
  /** Where it broke. */
  failedAt: ClientStage | null = null;
  private replies: RemoteReply[] = [];
  private outputs: ClientOutput[] = [];
  secure: boolean;

  constructor(private readonly options: ClientOptions) {
    this.secure = options.tls === 'implicit';
  }

  receive(bytes: Buffer): ClientOutput[] {
    this.input += bytes.toString('latin1');
    if (this.input.length > LONGEST_REPLY) this.fail(null, ENDLESS);
    for (let end = this.input.indexOf('\n'); end >= 0 && this.step !== 'tls'; end = this.input.indexOf('\n')) {
      const line = this.input.slice(0, end).replace(/\r$/, '');
      this.input = this.input.slice(end + 1);
      overhearLines(this.options.overhear, 'server', line);
      this.line(line);
    }
    return this.take();
  }

  /** TLS is on; what came before it is forgotten. */
  tlsStarted(): ClientOutput[] {
    this.secure = true;
    this.input = '';
    this.hello('EHLO', 'ehlo');
    return this.take();
  }

  /** Hands over one message; only when `ready` was said. */
  deliver(envelope: Envelope): ClientOutput[] {
    this.envelope = envelope;
    this.sentText = false;
    this.replies = [];
    this.mailReply = null;
    const utf8 = envelope.smtputf8 || needsUtf8(envelope.sender ?? '') || envelope.recipients.some((one) => needsUtf8(one.address));
    // RFC 6531 §3.2: where SMTPUTF8 is not offered, such a message can't go on.
    if (utf8 && !this.offers.has('SMTPUTF8')) {
      return this.cannotGo({ code: 553, text: '5.6.7 The server does not accept non-ASCII addresses or headers (SMTPUTF8)' });
    }
    // RFC 6152 §3: what can't be sent as it is, and is signed as it is, goes back rather than on as something else.
    if (envelope.content && !this.offers.has('8BITMIME') && !envelope.content.isPlain)
      return this.cannotGo({ code: 554, text: '5.6.3 The server does not accept 8-bit text or lines of more than 998 octets (8BITMIME)' });
    const mail = [
      `MAIL FROM:<${envelope.sender ?? ''}>`,
      ...(this.offers.has('SIZE') && envelope.content ? [`SIZE=${envelope.content.size}`] : []),
      ...(this.offers.has('8BITMIME') && envelope.content && !envelope.content.isAscii ? ['BODY=8BITMIME'] : []),
      ...(utf8 ? ['SMTPUTF8'] : []),
      ...(this.offers.has('DSN') && envelope.returnContent ? [`RET=${envelope.returnContent}`] : []),
      ...(this.offers.has('DSN') && envelope.envelopeId ? [`ENVID=${envelope.envelopeId}`] : []),
    ].join(' ');
    this.step = 'mail';
    // RFC 2920 §3.1: DATA may end a pipelined group.
    if (this.offers.has('PIPELINING'))
      this.send([mail, ...this.recipientCommands(), ...(envelope.content ? ['DATA'] : [])].map((line) => `${line}\r\n`).join(''));
    else this.send(`${mail}\r\n`);
    return this.take();
  }

  /** The message is none for this server; the conversation may go on with another one. */
  private cannotGo(reply: RemoteReply): ClientOutput[] {
    const outcomes = (this.envelope?.recipients ?? []).map((one): RecipientOutcome => ({ recipient: one.address, kind: 'never', reply }));
    this.outputs.push({ kind: 'finished', outcomes, dsn: false }, { kind: 'ready' });
    this.envelope = null;
    return this.take();
  }

  quit(): ClientOutput[] {
    if (this.step === 'idle') this.send('QUIT\r\n');
    this.step = 'broken';
    return this.take();
  }

  /** Whether the end of a text has been sent: from then on the server may have taken it, whatever comes. */
  get textSent(): boolean {
    return this.step === 'content' || this.sentText;
  }

  /** What the conversation waits for at this moment. */
  get stage(): ClientStage {
    if (this.step === 'greeting') return 'greeting';
    if (this.step === 'ehlo' || this.step === 'helo') return 'hello';
    if (this.step === 'start-tls' || this.step === 'tls') return 'tls';
    return this.step === 'sign-in' || this.step === 'sign-in-user' ? 'sign-in' : 'message';
  }

  private tell(step: ClientStage, text: string): void {
    this.outputs.push({ kind: 'step', step, text });
  }

  private take(): ClientOutput[] {
    const outputs = this.outputs;
    this.outputs = [];
    return outputs;
  }

  /** `heard` is what is heard of it instead, by whoever follows the conversation. */
  private send(text: string, heard = text): void {
    overhearLines(this.options.overhear, 'client', heard);
    this.outputs.push({ kind: 'send', bytes: Buffer.from(text, 'utf8') });
  }

  private fail(reply: RemoteReply | null, reason: string): void {
    if (this.step === 'broken') return;
    this.failedAt = this.stage;
    this.step = 'broken';
    this.outputs.push({ kind: 'broken', reply, reason });
  }

  private hello(verb: 'EHLO' | 'HELO', step: WireStep): void {
    this.step = step;
    this.send(`${verb} ${this.options.heloName}\r\n`);
  }

  private recipientCommands(): string[] {
    const dsn = this.offers.has('DSN');
    return (this.envelope?.recipients ?? []).map(
      ({ address, notify, original }) =>
        `RCPT TO:<${address}>${dsn && notify ? ` NOTIFY=${notify}` : ''}${dsn && original ? ` ORCPT=${original}` : ''}`,
    );
  }

  private line(line: string): void {
    const found = this.reader.push(line);
    if (typeof found === 'string') return this.fail(null, found);
    if (found) this.reply(found.reply, found.lines);
  }

  /** Ends the conversation: what is answered no longer belongs to what was asked, so nothing of it may be believed. */
  private outOfStep(reply: RemoteReply): void {
    this.fail(null, outOfStep(reply));
  }

  private reply(reply: RemoteReply, lines: string[]): void {
    // RFC 5321 §4.2: one reply to each command. What is here already was said before anything else was asked.
    if (this.input !== '' && !this.awaitsMore()) return this.outOfStep(reply);
    const good = EXPECTED[this.step];
    if (good && reply.code < 400 && !good.includes(reply.code)) return this.outOfStep(reply);
    switch (this.step) {
      case 'greeting':
        if (reply.code !== 220) return this.fail(reply, 'the server does not greet');
        this.tell('greeting', `${reply.code} ${reply.text}`);
        return this.hello('EHLO', 'ehlo');
      case 'ehlo':
        if (reply.code !== 250) return reply.code >= 500 ? this.hello('HELO', 'helo') : this.fail(reply, 'the server refuses EHLO');
        this.offers = new Map(lines.slice(1).map((line) => offerOf(line)));
        this.tell('hello', `offers ${[...this.offers.keys()].join(', ') || 'nothing more'}${this.secure ? ', with TLS' : ''}`);
        if ((this.options.tls === 'offered' || this.options.tls === 'required') && !this.secure && this.offers.has('STARTTLS')) {
          this.step = 'start-tls';
          return this.send('STARTTLS\r\n');
        }
        return this.greeted();
      case 'helo':
        return reply.code === 250 ? this.greeted() : this.fail(reply, 'the server refuses HELO');
      case 'start-tls':
        // Opportunistic: a server that takes back its offer gets the message in clear.
        if (reply.code !== 220) return this.greeted();
        this.step = 'tls';
        this.outputs.push({ kind: 'start-tls' });
        return;
      case 'sign-in-user':
        if (reply.code !== 334) return this.fail(reply, 'the server refuses the sign-in');
        this.step = 'sign-in';
        // The first prompt is for the user, the second for the password.
        if (this.userAsked) return this.send(`${base64(this.options.credentials?.password ?? '')}\r\n`, HIDDEN);
        this.userAsked = true;
        this.step = 'sign-in-user';
        return this.send(`${base64(this.options.credentials?.user ?? '')}\r\n`, HIDDEN);
      case 'sign-in':
        if (reply.code !== 235) return this.fail(reply, 'the server refuses the sign-in');
        this.tell('sign-in', `${reply.code} ${reply.text}`);
        return this.ready();
      case 'mail':
        this.mailReply = reply;
        this.step = 'recipients';
        if (!this.offers.has('PIPELINING')) {
          if (reply.code >= 400) return this.finish(reply);
          this.send(`${this.recipientCommands()[0]}\r\n`);
        }
        return;
      case 'recipients':
        return this.recipientReply(reply);
      case 'data':
        return this.dataReply(reply);
      case 'content':
        return this.finish(reply);
      case 'reset':
        return reply.code === 250 ? this.ready() : this.fail(reply, 'the server ended the conversation');
      default:
        // 421 while idle, or noise: the connection is of no more use.
        return this.fail(reply, 'the server ended the conversation');
    }
  }

  /** Whether further replies are due before anything else is sent: those of a pipelined group, and what follows STARTTLS is dropped. */
  private awaitsMore(): boolean {
    if (this.step === 'start-tls' || this.step === 'content' || this.step === 'idle') return true;
    // A text may be refused before it has come whole; it can't be taken by then.
    if (this.step === 'data') return /^[45]/.test(this.input);
    return this.offers.has('PIPELINING') && (this.step === 'mail' || this.step === 'recipients' || this.step === 'reset');
  }

  /** EHLO is answered and TLS is as it will be: signs in where that is asked. */
  private greeted(): void {
    const { tls, credentials } = this.options;
    if (tls === 'required' && !this.secure) return this.fail(null, 'the server does not offer TLS, which is required');
    if (!credentials) return this.ready();
    if (!this.secure) return this.fail(null, 'without TLS no password is sent');
    const mechanisms = (this.offers.get('AUTH') ?? '').toUpperCase().split(' ');
    if (mechanisms.includes('PLAIN')) {
      this.step = 'sign-in';
      return this.send(`AUTH PLAIN ${base64(`\0${credentials.user}\0${credentials.password}`)}\r\n`, `AUTH PLAIN ${HIDDEN}`);
    }
    if (!mechanisms.includes('LOGIN')) return this.fail(null, 'the server offers no sign-in by PLAIN or LOGIN');
    this.step = 'sign-in-user';
    this.send('AUTH LOGIN\r\n');
  }

  private ready(): void {
    this.step = 'idle';
    this.outputs.push({ kind: 'ready' });
  }

  private recipientReply(reply: RemoteReply): void {
    this.replies.push(reply);
    const commands = this.recipientCommands();
    if (this.replies.length < commands.length) {
      if (!this.offers.has('PIPELINING')) this.send(`${commands[this.replies.length]}\r\n`);
      return;
    }
    if (!this.envelope?.content) return this.finish(null);
    if (this.offers.has('PIPELINING')) {
      this.step = 'data';
      return;
    }
    if (this.replies.every((one) => one.code >= 300)) return this.finish(null);
    this.step = 'data';
    this.send('DATA\r\n');
  }

  private dataReply(reply: RemoteReply): void {
    const anyTaken = (this.mailReply?.code ?? 500) < 300 && this.replies.some((one) => one.code < 300);
    if (reply.code !== 354) return this.finish(anyTaken ? reply : null);
    this.step = 'content';
    this.sentText = true;
    // RFC 2920 §3.1: a 354 without a valid recipient still needs its dot.
    if (!anyTaken) return this.send('.\r\n');
    const content = this.envelope?.content;
    if (!content) return;
    this.options.overhear?.('client', `(a text of ${content.size} octets)`);
    this.outputs.push({ kind: 'send-text', content });
  }

  /** `last` decides for the recipients that were taken so far; null when none was. */
  private finish(last: RemoteReply | null): void {
    const mail = this.mailReply;
    const outcomes = (this.envelope?.recipients ?? []).map(({ address: recipient }, at): RecipientOutcome => {
      const own = this.replies[at];
      const reply = mail && mail.code >= 300 ? mail : own && own.code >= 300 ? own : (last ?? own ?? { code: 421, text: 'no reply' });
      return { recipient, kind: reply.code < 300 ? 'taken' : reply.code < 500 ? 'later' : 'never', reply };
    });
    this.outputs.push({ kind: 'finished', outcomes, dsn: this.offers.has('DSN') });
    this.envelope = null;
    if (last && last.code < 300 && this.step === 'content') return this.ready();
    this.step = 'reset';
    this.send('RSET\r\n');
  }
}
