import type { Socket } from 'node:net';
import type { ServerTls } from './certificate.ts';
import { CompressedStream } from './compressed-stream.ts';
import { type Connection, upgradeToTls } from './listener.ts';
import { readingTurns } from './reading-turns.ts';
import { drained } from './write-text.ts';

/** What a line needs of a protocol session. */
export interface LineSession<Output> {
  receive(bytes: Buffer): Output[];
  /** What was given out has gone: the session reads on where it had stopped for that. */
  proceed(): Output[];
  /** Octets that wait while a decision is open, or while what was said before has not gone. */
  readonly waiting: number;
  tlsStarted(): void;
}

export interface LineSettings<Output> {
  tls: ServerTls;
  idleMs: number;
  onIdle: () => Output[];
  /** Hears of octets as they come. */
  onOctets?: (count: number) => void;
  perform: (outputs: Output[]) => Promise<void>;
  /** The conversation is over, whether or not the other side has gone yet: what it holds is free. Called once or several times. */
  onClose: () => void;
  onFault: (error: unknown) => void;
  onTlsFailure: (reason: string) => void;
}

/** With more octets waiting, the client is not read from. */
const MOST_WAITING = 32 * 1024;
/** Who sends so much at once is read again in a later turn of the event loop. */
const MUCH = 16 * 1024;
/** What has ended is closed by us when the client does not do it by then. */
const LINGER_MS = 2000;

/**
 * One connection and its session: octets in their order, one step after the other, and the change to TLS on the way. While what we said has not gone,
 * nothing more is read, so that a client that never reads can't fill the memory (RFC 5321 §4.5.3 leaves pipelining unbounded).
 */
export class ConversationLine<Output> {
  socket: Socket;
  private chain: Promise<void> = Promise.resolve();
  private steps = 0;
  private ended = false;
  /** The client has closed its sending half: what it asked is answered, then the connection closes. */
  private isHalfClosed = false;
  private idleMs: number;

  constructor(
    connection: Connection,
    private readonly session: LineSession<Output>,
    private readonly settings: LineSettings<Output>,
  ) {
    this.idleMs = settings.idleMs;
    this.socket = connection.socket;
    this.attach(connection.socket);
  }

  /** Performs a step's outputs after all that is under way; a fault ends the connection. */
  enqueue(step: () => Output[]): void {
    this.steps += 1;
    this.chain = this.chain
      .then(() => this.settings.perform(step()))
      .catch((error: unknown) => {
        this.settings.onFault(error);
        this.socket.destroy();
      })
      .then(() => {
        this.steps -= 1;
        if (this.steps === 0) this.goOn();
      });
  }

  /** A final word, even when the client does not take what was said before: then it is not waited for. */
  end(step: () => Output[]): void {
    if (this.socket.writableNeedDrain) this.socket.destroy();
    else this.enqueue(step);
  }

  /** Sends octets; resolves when there is room for more. */
  async write(octets: string | Buffer): Promise<void> {
    if (this.socket.writable && !this.socket.write(octets)) await drained(this.socket);
  }

  /** The session has ended: nothing more is heard, what it holds is free, and the connection closes within seconds. */
  close(): void {
    if (this.ended) return;
    this.ended = true;
    const { socket } = this;
    socket.off('data', this.onData);
    socket.setTimeout(0);
    socket.end();
    // What still comes is thrown away, so that the client can read our last word instead of an error.
    socket.resume();
    const timer = setTimeout(() => socket.destroy(), LINGER_MS);
    socket.once('close', () => clearTimeout(timer));
    this.settings.onClose();
  }

  startTls(): void {
    const plain = this.socket;
    plain.off('data', this.onData);
    plain.off('end', this.onEnd);
    plain.off('close', this.settings.onClose);
    plain.pause();
    const secured = upgradeToTls(plain, this.settings.tls, (reason) => {
      this.settings.onTlsFailure(reason);
      plain.destroy();
    });
    this.session.tlsStarted();
    this.attach(secured);
  }

  /** From here on both sides are compressed (RFC 4978). */
  compress(): void {
    const plain = this.socket;
    plain.off('data', this.onData);
    plain.off('end', this.onEnd);
    plain.off('close', this.settings.onClose);
    plain.pause();
    // It has all that is used of a socket here.
    this.attach(new CompressedStream(plain) as unknown as Socket);
  }

  /** How long nothing may come from now on. */
  setIdle(ms: number): void {
    this.idleMs = ms;
    this.socket.setTimeout(ms);
  }

  private goOn(): void {
    if (this.ended || this.socket.destroyed) return;
    const outputs = this.session.proceed();
    if (outputs.length > 0) this.enqueue(() => outputs);
    else if (this.isHalfClosed) this.close();
    else if (this.session.waiting <= MOST_WAITING) this.socket.resume();
  }

  private readonly onEnd = (): void => {
    this.isHalfClosed = true;
    if (this.steps === 0) this.goOn();
  };

  private readonly onData = (bytes: Buffer): void => {
    this.settings.onOctets?.(bytes.length);
    const outputs = this.session.receive(bytes);
    if (outputs.length > 0) this.enqueue(() => outputs);
    const mustWait = this.session.waiting > MOST_WAITING || this.socket.writableNeedDrain || this.steps > 1;
    if (!mustWait && bytes.length < MUCH) return;
    this.socket.pause();
    if (!mustWait)
      readingTurns.wait(() => {
        // While a step is under way, its end lets the client be read again.
        if (this.steps === 0) this.goOn();
      });
  };

  private attach(socket: Socket): void {
    this.socket = socket;
    socket.setTimeout(this.idleMs, () => this.end(this.settings.onIdle));
    socket.on('data', this.onData);
    socket.on('end', this.onEnd);
    socket.on('error', () => socket.destroy());
    socket.on('close', this.settings.onClose);
    socket.resume();
  }
}
