import { connect, isIP, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import type { MailContent } from '../core/message/mail-content.ts';
import type { Overhear } from '../core/overhear.ts';
import type { ClientOutput, Envelope, RecipientOutcome } from '../core/smtp/client-intents.ts';
import { ClientSession } from '../core/smtp/client-session.ts';
import type { AttemptResult, RemoteHost } from '../service/base/ports.ts';
import { proxyHeader } from './proxy-protocol.ts';
import { writeText } from './write-text.ts';

/** In a demo world: connections to `address` port `port` go to another socket, with a PROXY header that tells the truth of that world. */
interface DialEntry {
  address: string;
  port: number;
  through: { address: string; port: number };
  proxy: boolean;
}

export interface SmtpClientSettings {
  hostName: string;
  ownAddresses: readonly string[];
  dial: readonly DialEntry[];
  /** PEM certificates that are trusted instead of the public ones; for worlds of their own. */
  trustedRoots: string | null;
  /** How long to wait for other servers, in milliseconds; what is left out is as below. */
  waits?: Partial<typeof WAITS>;
  /** Who hears a conversation with that host. */
  follow?: (host: RemoteHost) => Overhear | undefined;
}

export const WAITS = {
  connectMs: 30_000,
  /** RFC 5321 §4.5.3.2.6: ten minutes for the final reply. */
  replyMs: 10 * 60_000,
  /** A greeting with all that follows until a message may begin, or a message without its recipients and text: who drips octets keeps no place for ever. */
  wholeMs: 20 * 60_000,
  /** For each recipient: some servers answer every one slowly, and pipelining is not offered everywhere. */
  eachMs: 60_000,
};
/** The slowest that a text may go, in octets a millisecond. */
const SLOWEST = 4;
export const LINGER_MS = 3000;

export interface WalkStep {
  step: string;
  good: boolean;
  text: string;
}

export type Event =
  | { kind: 'ready' }
  | { kind: 'finished'; outcomes: RecipientOutcome[]; dsn: boolean }
  | { kind: 'broken'; reason: string; code: number | null };

export class OpenLine {
  private socket: Socket | null = null;
  private readonly session: ClientSession;
  private listener: ((event: Event) => void) | null = null;
  private timer: NodeJS.Timeout | null = null;
  private deadline: NodeJS.Timeout | null = null;
  private readonly waits: typeof WAITS;
  private isReady = false;
  readonly steps: WalkStep[] = [];
  private connected = false;
  private broken: Event | null = null;
  /** Whether a text is under way to its dot. */
  private inText = false;
  /** Why the text could not be read to its end. */
  private textFault: unknown = null;
  /** The version of TLS that was agreed on. */
  private tls: string | null = null;
  private tlsPending = false;
  private isTlsFault = false;

  constructor(
    private readonly settings: SmtpClientSettings,
    private readonly host: RemoteHost,
  ) {
    this.waits = { ...WAITS, ...settings.waits };
    const overhear = settings.follow?.(host);
    this.session = new ClientSession({ heloName: settings.hostName, tls: host.tls, credentials: host.credentials, overhear });
  }

  get usable(): boolean {
    return this.broken === null && this.isReady;
  }

  /** Whether TLS is what broke, before the server can have taken anything. */
  get tlsBroke(): boolean {
    return (this.tlsPending || this.isTlsFault || this.session.stage === 'tls') && !this.session.textSent;
  }

  get failedAt(): string {
    if (!this.connected) return 'connect';
    return this.tlsPending ? 'tls' : (this.session.failedAt ?? this.session.stage);
  }

  /** Resolves with null when the conversation is ready for a message. */
  async open(): Promise<AttemptResult | null> {
    const { address, port, tls } = this.host;
    const entry = this.settings.dial.find((one) => one.address === address && one.port === port);
    const target = entry?.through ?? { address, port };
    const source = address.includes(':') ? this.host.sourceIpv6 : this.host.sourceIpv4;
    // In a demo world the source is told by the PROXY header; the loopback has none of those addresses.
    const localAddress = source !== null && !entry ? { localAddress: source } : {};
    const socket = connect({ host: target.address, port: target.port, noDelay: true, ...localAddress });
    this.attach(socket);
    socket.setTimeout(this.waits.connectMs);
    this.mustEndWithin(this.waits.wholeMs);
    socket.once('connect', () => {
      this.connected = true;
      this.steps.push({ step: 'connect', good: true, text: `connected to ${address} port ${port}` });
      socket.setTimeout(this.waits.replyMs);
      if (entry?.proxy) {
        const own = source ?? this.settings.ownAddresses.find((one) => one.includes(':') === address.includes(':')) ?? '192.0.2.1';
        socket.write(proxyHeader(own, address, port));
      }
      if (tls === 'implicit') this.startTls(false);
    });
    const event = await this.next();
    return event.kind === 'broken' ? { kind: 'unreachable', reason: event.reason, code: event.code } : null;
  }

  async deliver(envelope: Envelope): Promise<AttemptResult> {
    if (this.timer) clearTimeout(this.timer);
    const waiting = this.next();
    if (!this.broken) {
      this.isReady = false;
      const { recipients, content } = envelope;
      this.mustEndWithin(this.waits.wholeMs + recipients.length * this.waits.eachMs + (content?.size ?? 0) / SLOWEST);
      this.perform(this.session.deliver(envelope));
    }
    const event = await waiting;
    if (this.textFault !== null) throw this.textFault;
    if (event.kind === 'finished') return { kind: 'done', outcomes: event.outcomes, tls: this.tls, dsn: event.dsn };
    return {
      kind: 'unreachable',
      reason: event.kind === 'broken' ? event.reason : 'out of step',
      code: event.kind === 'broken' ? event.code : null,
    };
  }

  quit(): void {
    if (this.timer) clearTimeout(this.timer);
    this.perform(this.session.quit());
    this.broken ??= { kind: 'broken', reason: 'closed', code: null };
    const { socket } = this;
    if (this.inText) socket?.destroy();
    socket?.end();
    socket?.unref();
    // A server that does not hang up is not waited for.
    if (socket && !socket.destroyed) setTimeout(() => socket.destroy(), LINGER_MS).unref();
  }

  /** Whether the end of a text has been sent: what came of it is not known before the reply. */
  get textSent(): boolean {
    return this.session.textSent && !this.inText;
  }

  /** Somebody else needs the place. */
  giveUp(reason: string): void {
    this.break(`${this.host.name} [${this.host.address}] ${reason}`);
  }

  whenIdleFor(ms: number, act: () => void): void {
    this.timer = setTimeout(act, ms);
    this.timer.unref();
  }

  private next(): Promise<Event> {
    if (this.broken) return Promise.resolve(this.broken);
    return new Promise((resolve) => {
      this.listener = resolve;
    });
  }

  private mustEndWithin(ms: number): void {
    this.deadline = setTimeout(() => this.break(`${this.host.name} [${this.host.address}] took too long`), ms);
    this.deadline.unref();
  }

  private tell(event: Event): void {
    if (this.deadline) clearTimeout(this.deadline);
    const listener = this.listener;
    this.listener = null;
    listener?.(event);
  }

  private break(reason: string, code: number | null = null): void {
    if (this.broken) return;
    this.broken = { kind: 'broken', reason, code };
    this.socket?.destroy();
    this.tell(this.broken);
  }

  private attach(socket: Socket): void {
    this.socket = socket;
    socket.on('data', (bytes) => this.perform(this.session.receive(bytes)));
    socket.on('timeout', () => this.break(`${this.host.name} [${this.host.address}] did not answer in time`));
    socket.on('error', (error: NodeJS.ErrnoException) => {
      // Of OpenSSL, not of the network.
      this.isTlsFault ||= /^ERR_(SSL|TLS)/.test(error.code ?? '');
      this.break(`${this.host.name} [${this.host.address}]: ${connectionFault(error)}`);
    });
    socket.on('close', () => this.break(`${this.host.name} [${this.host.address}] closed the connection`));
  }

  private perform(outputs: ClientOutput[]): void {
    for (const output of outputs) {
      if (output.kind === 'send') this.send(output.bytes);
      else if (output.kind === 'send-text') this.sendText(output.content);
      else if (output.kind === 'step') this.steps.push({ step: output.step, good: true, text: output.text });
      else if (output.kind === 'start-tls') this.startTls(true);
      else if (output.kind === 'ready') {
        if (!this.isReady) this.tell({ kind: 'ready' });
        this.isReady = true;
      } else if (output.kind === 'finished') {
        // Whoever takes what has not been sent can't have it.
        if (this.inText && output.outcomes.some((one) => one.kind === 'taken'))
          this.break(`${this.host.name} answered before the end of the message`);
        else this.tell(output);
      } else
        this.break(
          output.reply ? `${this.host.name} said ${output.reply.code} ${output.reply.text}` : output.reason,
          output.reply?.code ?? null,
        );
    }
  }

  private send(bytes: Buffer): void {
    // Refused in the middle of the text: it stays without its end, and the connection with it.
    if (!this.inText) this.socket?.write(bytes);
  }

  /** Piece by piece as the other side takes it, so that a large text neither holds up everybody else nor waits in memory. */
  private sendText(content: MailContent): void {
    const { socket } = this;
    if (!socket) return;
    this.inText = true;
    const isOver = (): boolean => this.broken !== null;
    const ends = (): void => {
      this.inText = false;
    };
    writeText(socket, content, { isOver, ends }).catch((error: unknown) => {
      // Without its final dot the text is none, and the server must not take it.
      this.textFault = error;
      this.break('the text of the message could not be read');
    });
  }

  private startTls(announce: boolean): void {
    const plain = this.socket;
    if (!plain) return;
    for (const event of ['data', 'timeout', 'error', 'close']) plain.removeAllListeners(event);
    plain.on('error', () => {});
    const { name, verify } = this.host;
    this.tlsPending = true;
    // Opportunistic TLS protects against listeners only; certificates are not judged (RFC 7435). Where a password goes, they are.
    const secured = connectTls({
      socket: plain,
      ...(isIP(name) ? {} : { servername: name }),
      rejectUnauthorized: verify,
      ...(this.settings.trustedRoots ? { ca: this.settings.trustedRoots } : {}),
    });
    secured.setTimeout(this.waits.replyMs);
    secured.once('secureConnect', () => {
      this.tls = secured.getProtocol();
      this.tlsPending = false;
      const subject = secured.getPeerCertificate().subject?.CN;
      const proof = verify ? 'certificate checked' : secured.authorized ? 'certificate good' : 'certificate not checked';
      this.steps.push({ step: 'tls', good: true, text: `${this.tls}, ${proof}${subject ? ` (${String(subject)})` : ''}` });
      if (announce) this.perform(this.session.tlsStarted());
    });
    this.attach(secured);
  }
}

function connectionFault(error: NodeJS.ErrnoException): string {
  if (error.code === 'ECONNREFUSED') return 'connection refused';
  if (error.code === 'ETIMEDOUT') return 'no connection in time';
  if (error.code === 'EHOSTUNREACH' || error.code === 'ENETUNREACH') return 'no route there';
  // An OpenSSL or certificate error says it best in its own words.
  return error.code === undefined || /CERT|SSL|TLS/.test(error.code) ? error.message : error.code;
}
