import { HIDDEN, NOT_A_COMMAND, type Overhear, overhearLines } from '../overhear.ts';
import { readPlain } from '../sasl-plain.ts';
import { capabilitiesText, languageAnswer } from './capabilities.ts';
import type { PopAnswer, PopIntent, PopMessage, PopOutput } from './intents.ts';

const LONGEST_LINE = 512;
/** RFC 5034 §4: the answer of an exchange may be longer than a command. */
const LONGEST_ANSWER = 12_288;
const MOST_ERRORS = 10;
/** With more to send, the session waits until it has gone before it reads on; in octets. */
const BURST = 16 * 1024;

/** The server's side of one POP3 conversation (RFC 1939, 2449, 2595, 5034, 6856), without a socket. */
export class PopSession {
  private state: 'authorization' | 'transaction' | 'closed' = 'authorization';
  private input: Buffer = Buffer.alloc(0);
  private asked: { intent: PopIntent; lines: number | null } | null = null;
  private user: string | null = null;
  /** The answer of an exchange is waited for. */
  private inExchange = false;
  private messages: PopMessage[] = [];
  private deleted = new Set<number>();
  /** Letters beyond ASCII are wanted as they are. */
  private isUtf8 = false;
  private errors = 0;
  private startingTls = false;
  private outputs: PopOutput[] = [];
  private burst = 0;
  private left = { messages: 0, octets: 0 };

  constructor(private readonly settings: { hostName: string; tlsOffered: boolean; secure: boolean; overhear?: Overhear | undefined }) {}

  greet(): PopOutput[] {
    this.ok(`${this.settings.hostName} POP3 ready`);
    return this.take();
  }

  receive(bytes: Buffer): PopOutput[] {
    // Between the answer to STLS and TLS itself nothing is listened to (RFC 2595 §4).
    if (this.state === 'closed' || this.startingTls) return [];
    this.input = Buffer.concat([this.input, bytes]);
    this.advance();
    return this.take();
  }

  /** What was given out has gone: reads on where it stopped for that. */
  proceed(): PopOutput[] {
    this.burst = 0;
    this.advance();
    return this.take();
  }

  get waiting(): number {
    return this.input.length;
  }

  answer(answer: PopAnswer): PopOutput[] {
    const asked = this.asked;
    this.asked = null;
    if (!asked || this.state === 'closed') return [];
    if (answer.kind === 'refused') {
      // RFC 2449 §8, RFC 3206: the reason in brackets.
      this.error(`[${answer.code}] ${answer.text}`);
      if (asked.intent.kind === 'remove') this.close();
    } else if (answer.kind === 'opened') {
      this.messages = answer.messages;
      this.countAll();
      this.state = 'transaction';
      this.ok(`${this.messages.length} messages`);
    } else if (answer.kind === 'content') {
      this.send('+OK\r\n');
      this.outputs.push({ kind: 'text', lines: asked.lines });
      this.burst = BURST;
    } else {
      this.ok('Goodbye');
      this.close();
    }
    this.advance();
    return this.take();
  }

  tlsStarted(): void {
    this.startingTls = false;
    this.settings.secure = true;
    this.user = null;
    // What was said in the clear is forgotten (RFC 2595 §4).
    this.isUtf8 = false;
    this.inExchange = false;
    this.input = Buffer.alloc(0);
  }

  end(text: string): PopOutput[] {
    if (this.state === 'closed') return [];
    this.send(`-ERR [SYS/TEMP] ${text}\r\n`);
    this.close();
    return this.take();
  }

  private take(): PopOutput[] {
    const outputs = this.outputs;
    this.outputs = [];
    return outputs;
  }

  private send(text: string): void {
    this.burst += text.length;
    overhearLines(this.settings.overhear, 'server', text);
    this.outputs.push({ kind: 'send', bytes: Buffer.from(text, 'latin1') });
  }

  private ok(text: string): void {
    this.send(`+OK ${text}\r\n`);
  }

  private error(text: string): void {
    this.send(`-ERR ${text}\r\n`);
    this.errors += 1;
    if (this.errors >= MOST_ERRORS) this.close();
  }

  private close(): void {
    if (this.state === 'closed') return;
    this.state = 'closed';
    this.outputs.push({ kind: 'close' });
  }

  private ask(intent: PopIntent, lines: number | null = null): void {
    this.asked = { intent, lines };
    this.outputs.push({ kind: 'ask', intent });
  }

  private advance(): void {
    while (this.asked === null && this.state !== 'closed' && !this.startingTls && this.burst < BURST) {
      const end = this.input.indexOf(0x0a);
      const longest = this.inExchange || /^AUTH /i.test(this.input.toString('latin1', 0, 5)) ? LONGEST_ANSWER : LONGEST_LINE;
      if (end < 0 ? this.input.length > longest : end > longest) {
        this.send('-ERR The line is too long\r\n');
        return this.close();
      }
      if (end < 0) return;
      const line = this.input.toString('utf8', 0, end).replace(/\r$/, '');
      this.input = this.input.subarray(end + 1);
      if (this.settings.overhear) overhearLines(this.settings.overhear, 'client', this.inExchange ? HIDDEN : withoutSecret(line));
      if (this.inExchange) {
        this.exchange(line);
        continue;
      }
      const space = line.indexOf(' ');
      const verb = (space < 0 ? line : line.slice(0, space)).toUpperCase();
      const argument = space < 0 ? '' : line.slice(space + 1);
      if (!this.common(verb, argument)) {
        if (this.state === 'authorization') this.authorize(verb, argument);
        else this.transact(verb, argument);
      }
    }
  }

  private common(verb: string, argument: string): boolean {
    if (verb === 'CAPA') {
      this.send(capabilitiesText(this.settings));
      return true;
    }
    if (verb === 'LANG') {
      const said = languageAnswer(argument);
      if (said === null) this.error('Unsupported language');
      else this.send(said);
      return true;
    }
    if (verb !== 'QUIT') return false;
    // RFC 1939 §6: only QUIT from the transaction state removes anything.
    if (this.state === 'transaction' && this.deleted.size > 0)
      this.ask({ kind: 'remove', ids: this.messages.filter((_one, at) => this.deleted.has(at)).map((one) => one.id) });
    else {
      this.ok('Goodbye');
      this.close();
    }
    return true;
  }

  private refuseInClear(user: string | null): void {
    this.outputs.push({ kind: 'sign-in-in-clear', user });
    this.error('Begin TLS first (STLS)');
  }

  private authorize(verb: string, argument: string): void {
    if (verb === 'STLS') {
      if (this.settings.secure) return this.error('TLS is already on');
      if (!this.settings.tlsOffered) return this.error('TLS is not offered here');
      this.ok('Begin TLS now');
      this.input = Buffer.alloc(0);
      this.startingTls = true;
      this.outputs.push({ kind: 'start-tls' });
      return;
    }
    if (verb === 'UTF8') {
      // RFC 6856 §2.1: before signing in alone, since sizes may depend on it.
      if (argument !== '') return this.error('UTF8 has no argument');
      this.isUtf8 = true;
      return this.ok('UTF-8 enabled');
    }
    if (verb === 'AUTH') {
      if (!this.settings.secure) return this.refuseInClear(null);
      const [mechanism = '', initial, ...more] = argument.split(' ');
      if (mechanism.toUpperCase() !== 'PLAIN' || more.length > 0) return this.error('Only PLAIN is supported');
      if (initial !== undefined) return this.exchange(initial === '=' ? '' : initial);
      this.inExchange = true;
      return this.send('+ \r\n');
    }
    if (verb === 'USER' || verb === 'PASS') {
      if (!this.settings.secure) return this.refuseInClear(verb === 'USER' ? argument.trim() : null);
      if (argument === '') return this.error(`${verb} needs an argument`);
      if (verb === 'USER') {
        this.user = argument.trim();
        return this.ok('And the password');
      }
      if (this.user === null) return this.error('Say USER first');
      const user = this.user;
      this.user = null;
      return this.ask({ kind: 'sign-in', user, password: argument, isUtf8: this.isUtf8 });
    }
    this.error('Sign in first (USER, PASS, or AUTH PLAIN)');
  }

  /** The one answer of PLAIN (RFC 5034 §4); an asterisk gives up. */
  private exchange(line: string): void {
    this.inExchange = false;
    if (line === '*') return this.error('Given up');
    const said = readPlain(line);
    if (!said) return this.error('Invalid PLAIN response');
    this.user = null;
    this.ask({ kind: 'sign-in', ...said, isUtf8: this.isUtf8 });
  }

  private transact(verb: string, argument: string): void {
    switch (verb) {
      case 'NOOP':
        return this.ok('Done');
      case 'RSET':
        this.deleted.clear();
        this.countAll();
        return this.ok('Nothing is marked for removal');
      case 'STAT':
        return this.ok(`${this.left.messages} ${this.left.octets}`);
      case 'LIST':
      case 'UIDL': {
        const shown = (message: PopMessage, number: number) => `${number} ${verb === 'LIST' ? message.size : message.uid}`;
        if (argument !== '') {
          const one = this.numbered(argument);
          return one ? this.ok(shown(one.message, one.number)) : this.error('There is no such message');
        }
        const lines = this.messages.flatMap((message, at) => (this.deleted.has(at) ? [] : [`${shown(message, at + 1)}\r\n`]));
        return this.send(`+OK\r\n${lines.join('')}.\r\n`);
      }
      case 'DELE': {
        const one = this.numbered(argument);
        if (!one) return this.error('There is no such message');
        this.deleted.add(one.number - 1);
        this.left = { messages: this.left.messages - 1, octets: this.left.octets - one.message.size };
        return this.ok('Marked for removal');
      }
      case 'RETR':
      case 'TOP': {
        const [number = '', lines = ''] = argument.split(/ +/);
        const one = this.numbered(number);
        if (!one) return this.error('There is no such message');
        if (verb === 'TOP' && !/^\d{1,9}$/.test(lines)) return this.error('TOP needs a message and a number of lines');
        return this.ask({ kind: 'read', id: one.message.id, isUtf8: this.isUtf8 }, verb === 'TOP' ? Number(lines) : null);
      }
      default:
        return this.error('There is no such command');
    }
  }

  private numbered(text: string): { message: PopMessage; number: number } | null {
    const number = /^\d{1,9}$/.test(text.trim()) ? Number(text) : 0;
    const message = this.messages[number - 1];
    return message && !this.deleted.has(number - 1) ? { message, number } : null;
  }

  private countAll(): void {
    this.left = { messages: this.messages.length, octets: this.messages.reduce((sum, { size }) => sum + size, 0) };
  }
}

const withoutSecret = (line: string): string =>
  VERBS.test(line) ? line.replace(/^(pass|auth\s+\S+)\s+.*$/is, `$1 ${HIDDEN}`) : NOT_A_COMMAND;
/** RFC 1939 §5–§7, 2449, 2595, 5034, 6856 */
const VERBS = /^(user|pass|auth|apop|stat|list|retr|dele|noop|rset|quit|top|uidl|capa|stls|utf8|lang)(?: |$)/i;
