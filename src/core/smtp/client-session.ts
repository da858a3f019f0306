/** A reply that another server gave, its lines joined. */
export interface RemoteReply {
  code: number;
  text: string;
}

export type ClientOutput =
  | { kind: 'send'; bytes: Buffer }
  | { kind: 'start-tls' }
  | { kind: 'ready' }
  | { kind: 'finished'; outcomes: RecipientOutcome[] }
  /** The conversation can't go on: nothing more may be sent on it. */
  | { kind: 'broken'; reply: RemoteReply | null; reason: string };

export interface RecipientOutcome {
  recipient: string;
  kind: 'taken' | 'later' | 'never';
  reply: RemoteReply;
}

export interface Envelope {
  sender: string | null;
  recipients: readonly string[];
  content: Buffer;
}

type Step = 'greeting' | 'ehlo' | 'helo' | 'start-tls' | 'tls' | 'idle' | 'mail' | 'recipients' | 'data' | 'content' | 'reset' | 'broken';

const LONGEST_REPLY = 64 * 1024;

/** The client's side of SMTP, without a socket (RFC 5321 §3); TLS whenever it is offered (RFC 3207), PIPELINING too. */
export class ClientSession {
  private step: Step = 'greeting';
  private input = '';
  private lines: string[] = [];
  private offers = new Set<string>();
  private envelope: Envelope | null = null;
  private mailReply: RemoteReply | null = null;
  private replies: RemoteReply[] = [];
  private outputs: ClientOutput[] = [];
  secure = false;

  constructor(
    private readonly heloName: string,
    private readonly wantTls: boolean,
  ) {}

  receive(bytes: Buffer): ClientOutput[] {
    this.input += bytes.toString('latin1');
    if (this.input.length > LONGEST_REPLY) this.fail(null, 'the server’s reply has no end');
    for (let end = this.input.indexOf('\n'); end >= 0 && this.step !== 'tls'; end = this.input.indexOf('\n')) {
      const line = this.input.slice(0, end).replace(/\r$/, '');
      this.input = this.input.slice(end + 1);
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
    this.replies = [];
    this.mailReply = null;
    const mail = `MAIL FROM:<${envelope.sender ?? ''}>${this.offers.has('SIZE') ? ` SIZE=${envelope.content.length}` : ''}${this.offers.has('8BITMIME') && hasHighBit(envelope.content) ? ' BODY=8BITMIME' : ''}`;
    this.step = 'mail';
    // RFC 2920 §3.1: DATA may end a pipelined group.
    if (this.offers.has('PIPELINING')) this.send([mail, ...this.recipientCommands(), 'DATA'].map((line) => `${line}\r\n`).join(''));
    else this.send(`${mail}\r\n`);
    return this.take();
  }

  quit(): ClientOutput[] {
    if (this.step === 'idle') this.send('QUIT\r\n');
    this.step = 'broken';
    return this.take();
  }

  private take(): ClientOutput[] {
    const outputs = this.outputs;
    this.outputs = [];
    return outputs;
  }

  private send(text: string): void {
    this.outputs.push({ kind: 'send', bytes: Buffer.from(text, 'latin1') });
  }

  private fail(reply: RemoteReply | null, reason: string): void {
    if (this.step === 'broken') return;
    this.step = 'broken';
    this.outputs.push({ kind: 'broken', reply, reason });
  }

  private hello(verb: 'EHLO' | 'HELO', step: Step): void {
    this.step = step;
    this.send(`${verb} ${this.heloName}\r\n`);
  }

  private recipientCommands(): string[] {
    return (this.envelope?.recipients ?? []).map((recipient) => `RCPT TO:<${recipient}>`);
  }

  private line(line: string): void {
    const found = /^([2-5]\d\d)([ -]?)(.*)$/.exec(line);
    if (!found) return this.fail(null, `the server said something that is no reply: ${JSON.stringify(line.slice(0, 80))}`);
    this.lines.push(found[3] ?? '');
    if (this.lines.length > 200) return this.fail(null, 'the server’s reply has no end');
    if (found[2] === '-') return;
    const lines = this.lines;
    this.lines = [];
    this.reply(
      {
        code: Number(found[1]),
        text: lines
          .join(' ')
          .replace(/[^\x20-\x7e]/g, '?')
          .slice(0, 500),
      },
      lines,
    );
  }

  private reply(reply: RemoteReply, lines: string[]): void {
    switch (this.step) {
      case 'greeting':
        if (reply.code !== 220) return this.fail(reply, 'the server does not greet');
        return this.hello('EHLO', 'ehlo');
      case 'ehlo':
        if (reply.code !== 250) return reply.code >= 500 ? this.hello('HELO', 'helo') : this.fail(reply, 'the server refuses EHLO');
        this.offers = new Set(lines.slice(1).map((line) => (line.split(' ')[0] ?? '').toUpperCase()));
        if (this.wantTls && !this.secure && this.offers.has('STARTTLS')) {
          this.step = 'start-tls';
          return this.send('STARTTLS\r\n');
        }
        return this.ready();
      case 'helo':
        return reply.code === 250 ? this.ready() : this.fail(reply, 'the server refuses HELO');
      case 'start-tls':
        // Opportunistic: a server that takes back its offer gets the message in clear.
        if (reply.code !== 220) return this.ready();
        this.step = 'tls';
        this.outputs.push({ kind: 'start-tls' });
        return;
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
        return this.ready();
      default:
        // 421 while idle, or noise: the connection is of no more use.
        return this.fail(reply, 'the server ended the conversation');
    }
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
    // RFC 2920 §3.1: a 354 without a valid recipient still needs its dot.
    if (anyTaken) this.outputs.push({ kind: 'send', bytes: stuffed(this.envelope?.content ?? Buffer.alloc(0)) });
    else this.send('.\r\n');
  }

  /** `last` decides for the recipients that were taken so far; null when none was. */
  private finish(last: RemoteReply | null): void {
    const mail = this.mailReply;
    const outcomes = (this.envelope?.recipients ?? []).map((recipient, at): RecipientOutcome => {
      const own = this.replies[at];
      const reply = mail && mail.code >= 300 ? mail : own && own.code >= 300 ? own : (last ?? own ?? { code: 421, text: 'no reply' });
      return { recipient, kind: reply.code < 300 ? 'taken' : reply.code < 500 ? 'later' : 'never', reply };
    });
    this.outputs.push({ kind: 'finished', outcomes });
    this.envelope = null;
    if (last && last.code < 300 && this.step === 'content') return this.ready();
    this.step = 'reset';
    this.send('RSET\r\n');
  }
}

const hasHighBit = (bytes: Buffer): boolean => bytes.some((octet) => octet > 0x7f);

/** The text with the dots of transparency (RFC 5321 §4.5.2) and the end of data. */
function stuffed(content: Buffer): Buffer {
  const text = content.toString('latin1').replace(/(^|\r\n)\./g, '$1..');
  return Buffer.from(`${text}${text.endsWith('\r\n') ? '' : '\r\n'}.\r\n`, 'latin1');
}
