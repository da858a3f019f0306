import { connect, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';

/** A line-by-line conversation over a socket, for tests that must say exactly what they want. */
export class Talk {
  private text = '';
  private waiting: { test: (text: string) => boolean; resolve: (text: string) => void } | null = null;
  private ended = false;

  private constructor(private socket: Socket) {
    this.attach(socket);
  }

  /** `from` is an address of the loopback network to come from. */
  static async to(port: number, options: { tls?: boolean; first?: string; from?: string } = {}): Promise<Talk> {
    const socket = connect({ port, host: '127.0.0.1', ...(options.from ? { localAddress: options.from } : {}) });
    await new Promise<void>((resolve, reject) => {
      socket.once('connect', resolve);
      socket.once('error', reject);
    });
    if (options.first) socket.write(options.first);
    return new Talk(options.tls ? await secured(socket) : socket);
  }

  async startTls(): Promise<void> {
    this.socket.removeAllListeners('data');
    this.socket = await secured(this.socket);
    this.attach(this.socket);
  }

  write(text: string | Buffer): void {
    this.socket.write(text);
  }

  /** Resolves with what has come when `test` holds for it, or when the other side ends. */
  until(test: (text: string) => boolean): Promise<string> {
    return new Promise((resolve) => {
      this.waiting = { test, resolve };
      this.look();
    });
  }

  /** One whole SMTP reply to `line` (null: only listen). */
  async say(line: string | null): Promise<string> {
    if (line !== null) this.write(`${line}\r\n`);
    return (await this.until((text) => /^\d{3}(?: .*)?\r\n$/m.test(text))).trimEnd();
  }

  /** One POP3 answer; a long one to its dot. */
  async pop(line: string | null, long = false): Promise<string> {
    if (line !== null) this.write(`${line}\r\n`);
    return this.until((text) => /^-ERR.*\r\n$/.test(text) || (long ? text.endsWith('\r\n.\r\n') : text.endsWith('\r\n')));
  }

  closed(): Promise<string> {
    return this.until(() => false);
  }

  end(): void {
    this.socket.destroy();
  }

  /** Breaks the connection off, as a client does that has crashed. */
  reset(): void {
    this.socket.resetAndDestroy();
  }

  /** Closes the sending half only. */
  finish(): void {
    this.socket.end();
  }

  private attach(socket: Socket): void {
    socket.on('data', (bytes) => {
      this.text += bytes.toString('latin1');
      this.look();
    });
    socket.on('error', () => {});
    socket.on('close', () => {
      this.ended = true;
      this.look();
    });
  }

  private look(): void {
    if (!this.waiting || !(this.ended || this.waiting.test(this.text))) return;
    const { resolve } = this.waiting;
    this.waiting = null;
    const { text } = this;
    this.text = '';
    resolve(text);
  }
}

async function secured(socket: Socket): Promise<Socket> {
  const over = connectTls({ socket, rejectUnauthorized: false });
  await new Promise<void>((resolve, reject) => {
    over.once('secureConnect', resolve);
    over.once('error', reject);
  });
  return over;
}
