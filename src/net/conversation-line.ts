import type { Socket } from 'node:net';
import type { SecureContext } from 'node:tls';
import { type Connection, upgradeToTls } from './listener.ts';

/** What a line needs of a protocol session. */
export interface LineSession<Output> {
  receive(bytes: Buffer): Output[];
  /** Octets that wait while a decision is open. */
  readonly waiting: number;
  tlsStarted(): void;
}

export interface LineSettings<Output> {
  secureContext: SecureContext;
  idleMs: number;
  /** With more octets waiting, the client is not read from. */
  mostWaiting: number;
  onIdle: () => Output[];
  /** Hears of octets as they come. */
  onOctets?: (count: number) => void;
  perform: (outputs: Output[]) => Promise<void>;
  onClose: () => void;
  onFault: (error: unknown) => void;
  onTlsFailure: (reason: string) => void;
}

/** One connection and its session: octets in their order, one step after the other, and the change to TLS on the way. */
export class ConversationLine<Output> {
  socket: Socket;
  private chain: Promise<void> = Promise.resolve();

  constructor(
    connection: Connection,
    private readonly session: LineSession<Output>,
    private readonly settings: LineSettings<Output>,
  ) {
    this.socket = connection.socket;
    this.attach(connection.socket);
  }

  /** Performs a step's outputs after all that is under way; a fault ends the connection. */
  enqueue(step: () => Output[]): void {
    this.chain = this.chain
      .then(() => this.settings.perform(step()))
      .catch((error) => {
        this.settings.onFault(error);
        this.socket.destroy();
      });
  }

  /** A decision was answered: reads on when the session has caught up. */
  answered(): void {
    if (this.session.waiting <= this.settings.mostWaiting) this.socket.resume();
  }

  startTls(): void {
    const plain = this.socket;
    plain.off('data', this.onData);
    plain.off('close', this.settings.onClose);
    plain.pause();
    const secured = upgradeToTls(plain, this.settings.secureContext, (reason) => {
      this.settings.onTlsFailure(reason);
      plain.destroy();
    });
    this.session.tlsStarted();
    this.attach(secured);
  }

  private readonly onData = (bytes: Buffer): void => {
    this.settings.onOctets?.(bytes.length);
    const outputs = this.session.receive(bytes);
    if (this.session.waiting > this.settings.mostWaiting) this.socket.pause();
    if (outputs.length > 0) this.enqueue(() => outputs);
  };

  private attach(socket: Socket): void {
    this.socket = socket;
    socket.setTimeout(this.settings.idleMs, () => this.enqueue(this.settings.onIdle));
    socket.on('data', this.onData);
    socket.on('error', () => socket.destroy());
    socket.on('close', this.settings.onClose);
    socket.resume();
  }
}
