import { connect as connectPlain, type Socket } from 'node:net';
import { connect } from 'node:tls';
import type { Exchange } from '../core/rehearsal/scripts.ts';
import type { RemoteReply } from '../core/smtp/client-intents.ts';
import { onlyReply, outOfStep } from '../core/smtp/reply-reader.ts';
import { type OpenRehearsal, RehearsalFault, type RehearsalTalk } from '../service/rehearsal/rehearsal-door.ts';
import { chainOf } from './probe-server.ts';
import { proxyHeader } from './proxy-protocol.ts';

/** As long as a patient mail program waits. */
const WAIT_MS = 10_000;
/** Of what the other side says, so much is kept for one answer, and shown of it. */
const MOST_HEARD = 256 * 1024;
const MOST_SHOWN = 4000;

/** Connects as a client would, by the dial map where there is one. */
export const rehearsalLine =
  (
    where: (address: string, port: number) => { address: string; port: number; proxy: boolean },
    own: readonly string[] = [],
    waitMs = WAIT_MS,
  ): OpenRehearsal =>
  async (address, port) => {
    const to = where(address, port);
    const socket = connectPlain({ host: to.address, port: to.port });
    await happened(socket, 'connect', waitMs);
    const source = own.find((one) => one.includes(':') === address.includes(':')) ?? '127.0.0.1';
    if (to.proxy) socket.write(proxyHeader(source, address, port));
    return new Line(socket, waitMs);
  };

class Line implements RehearsalTalk {
  private heard = '';
  private lines: { by: 'us' | 'them'; text: string }[] = [];
  private wake: () => void = () => {};
  private fault: RehearsalFault | null = null;

  constructor(
    private socket: Socket,
    private readonly waitMs: number,
  ) {
    this.listen();
  }

  said(): { by: 'us' | 'them'; text: string }[] {
    const { lines } = this;
    this.lines = [];
    return lines;
  }

  async talk(exchanges: readonly Exchange[]): Promise<string> {
    for (const exchange of exchanges) {
      const { expect, say, isReply } = exchange;
      if (expect) await this.await((heard) => (isReply ? isReplied : isAnswered)(heard, { ...exchange, expect }));
      if (!say) continue;
      // What was said unasked belongs to nothing.
      if (isReply) replyIn(this.heard);
      this.heard = '';
      this.lines.push({ by: 'us', text: say.shown ?? say.text.replaceAll('\r', '').trimEnd() });
      this.socket.write(say.text);
    }
    return this.heard.replaceAll('\r', '');
  }

  async startTls(name: string): Promise<{ pem: string; version: string }> {
    this.socket.removeAllListeners('data');
    const secured = connect({ socket: this.socket, servername: name, rejectUnauthorized: false });
    await happened(secured, 'secureConnect', this.waitMs);
    this.heard = '';
    this.socket = secured;
    this.listen();
    return { pem: chainOf(secured), version: secured.getProtocol() ?? 'TLS' };
  }

  close(): void {
    this.socket.destroy();
  }

  private listen(): void {
    const { socket } = this;
    socket.on('data', (bytes) => {
      const text = bytes.toString('latin1');
      if (this.heard.length < MOST_HEARD) this.heard += text;
      this.note(text);
      this.wake();
    });
    const failed = (code: string): void => {
      this.fault ??= new RehearsalFault('connection', code);
      this.wake();
    };
    socket.on('error', (error: NodeJS.ErrnoException) => failed(error.code ?? 'closed'));
    socket.on('close', () => failed('closed'));
  }

  private note(octets: string): void {
    const text = octets.replaceAll('\r', '');
    const last = this.lines.at(-1);
    if (last?.by === 'them') last.text = `${last.text}\n${text.trimEnd()}`.slice(0, MOST_SHOWN);
    else this.lines.push({ by: 'them', text: text.trimEnd().slice(0, MOST_SHOWN) });
  }

  /** Waits until it has answered; what the question finds wrong is thrown at once. */
  private async await(hasAnswered: (heard: string) => boolean): Promise<void> {
    const until = performance.now() + this.waitMs;
    while (!hasAnswered(this.heard)) {
      if (this.fault) throw this.heard === '' ? this.fault : new RehearsalFault('answer', lastLine(this.heard));
      const left = until - performance.now();
      if (left <= 0) throw new RehearsalFault('connection', 'ETIMEDOUT');
      await new Promise<void>((resolve) => {
        const timer = setTimeout(resolve, left);
        this.wake = () => {
          clearTimeout(timer);
          resolve();
        };
      });
    }
  }
}

type Awaited = Pick<Exchange, 'unless'> & { expect: RegExp };

/** Whether what has to come has come. Throws RehearsalFault when something ends in a line that says no instead. */
function isAnswered(heard: string, { expect, unless }: Awaited): boolean {
  if (expect.test(heard)) return true;
  if (REFUSED.test(heard) || unless?.test(heard)) throw new RehearsalFault('answer', lastLine(heard));
  return false;
}

/** The same in SMTP, where one reply comes to one command. Throws RehearsalFault for whatever ends a conversation with that server when a message is sent. */
function isReplied(heard: string, { expect, unless }: Awaited): boolean {
  const reply = replyIn(heard);
  if (reply === null) return false;
  if (expect.test(heard)) return true;
  throw new RehearsalFault('answer', reply.code < 400 && !unless?.test(heard) ? outOfStep(reply) : lastLine(heard));
}

function replyIn(heard: string): RemoteReply | null {
  const reply = onlyReply(heard);
  if (typeof reply === 'string') throw new RehearsalFault('answer', reply);
  return reply;
}

/** What says no in any of the protocols: at the end of what has come. */
const REFUSED = /(?:^|\n)(?:\w+ (?:NO|BAD) |\* BYE |-ERR|[45]\d\d )[^\n]*\r?\n$/;
const lastLine = (text: string): string => text.trimEnd().split(/\r?\n/).at(-1) ?? '';

function happened(socket: Socket, name: string, waitMs: number): Promise<void> {
  return new Promise((resolve, reject) => {
    const over = (): void => {
      clearTimeout(timer);
      socket.off(name, done).off('error', failed).off('close', closed);
    };
    const fail = (code: string): void => {
      over();
      // What it says after that is of no interest.
      socket.on('error', () => {});
      socket.destroy();
      reject(new RehearsalFault(name === 'connect' ? 'connection' : 'tls', code));
    };
    const done = (): void => {
      over();
      resolve();
    };
    const failed = (error: NodeJS.ErrnoException): void => fail(error.code ?? error.message);
    const closed = (): void => fail('closed');
    const timer = setTimeout(() => fail('ETIMEDOUT'), waitMs);
    socket.once(name, done).once('error', failed).once('close', closed);
  });
}
