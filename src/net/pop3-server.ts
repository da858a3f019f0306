import type { Socket } from 'node:net';
import type { SecureContext } from 'node:tls';
import { type PopOutput, PopSession } from '../core/pop3/session.ts';
import type { MailboxReader } from '../service/read-mailbox.ts';
import { type Connection, upgradeToTls } from './listener.ts';
import type { OpenConversation } from './smtp-server.ts';

/** RFC 1939 §3: at least ten minutes. */
const IDLE_MS = 10 * 60_000;
const MOST_WAITING = 64 * 1024;

/** Carries octets between one connection and its POP3 session. */
export function servePop3(
  connection: Connection,
  settings: { hostName: string; secureContext: SecureContext },
  reader: MailboxReader,
): OpenConversation {
  let socket: Socket = connection.socket;
  const session = new PopSession({ hostName: settings.hostName, tlsOffered: true, secure: connection.secure });
  let chain: Promise<void> = Promise.resolve();

  const perform = async (outputs: PopOutput[]): Promise<void> => {
    for (const output of outputs) {
      if (output.kind === 'send') {
        if (socket.writable && !socket.write(output.bytes)) await drained(socket);
      } else if (output.kind === 'close') socket.end();
      else if (output.kind === 'start-tls') startTls();
      else {
        await perform(session.answer(await reader.decide(output.intent)));
        if (session.waiting <= MOST_WAITING) socket.resume();
      }
    }
  };
  const enqueue = (step: () => PopOutput[]): void => {
    chain = chain
      .then(() => perform(step()))
      .catch((error) => {
        reader.fault(error);
        socket.destroy();
      });
  };
  const onData = (bytes: Buffer): void => {
    const outputs = session.receive(bytes);
    if (session.waiting > MOST_WAITING) socket.pause();
    if (outputs.length > 0) enqueue(() => outputs);
  };
  const onClose = (): void => reader.closed();

  const attach = (to: Socket): void => {
    socket = to;
    socket.setTimeout(IDLE_MS, () => enqueue(() => session.end('Waited long enough')));
    socket.on('data', onData);
    socket.on('error', () => socket.destroy());
    socket.on('close', onClose);
    socket.resume();
  };
  const startTls = (): void => {
    const plain = socket;
    plain.off('data', onData);
    plain.off('close', onClose);
    plain.pause();
    const secured = upgradeToTls(plain, settings.secureContext, () => plain.destroy());
    session.tlsStarted();
    attach(secured);
  };

  attach(socket);
  enqueue(() => (connection.welcome ? session.greet() : session.end('Too many connections from your address; try later')));
  return { stop: () => enqueue(() => session.end('The server is stopping; try again soon')) };
}

const drained = (socket: Socket): Promise<void> =>
  new Promise((resolve) => {
    socket.once('drain', resolve);
    socket.once('close', resolve);
  });
