import type { Socket } from 'node:net';
import type { SecureContext } from 'node:tls';
import { type PopOutput, PopSession } from '../core/pop3/session.ts';
import type { MailboxReader } from '../service/read-mailbox.ts';
import { ConversationLine } from './conversation-line.ts';
import type { Connection } from './listener.ts';
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
  const session = new PopSession({ hostName: settings.hostName, tlsOffered: true, secure: connection.secure });
  const perform = async (outputs: PopOutput[]): Promise<void> => {
    for (const output of outputs) {
      if (output.kind === 'send') {
        if (line.socket.writable && !line.socket.write(output.bytes)) await drained(line.socket);
      } else if (output.kind === 'close') line.socket.end();
      else if (output.kind === 'start-tls') line.startTls();
      else {
        await perform(session.answer(await reader.decide(output.intent)));
        line.answered();
      }
    }
  };
  const line = new ConversationLine<PopOutput>(connection, session, {
    secureContext: settings.secureContext,
    idleMs: IDLE_MS,
    mostWaiting: MOST_WAITING,
    onIdle: () => session.end('Waited long enough'),
    perform,
    onClose: () => reader.closed(),
    onFault: (error) => reader.fault(error),
    onTlsFailure: () => {},
  });
  line.enqueue(() => (connection.welcome ? session.greet() : session.end('Too many connections from your address; try later')));
  return { stop: () => line.enqueue(() => session.end('The server is stopping; try again soon')) };
}

const drained = (socket: Socket): Promise<void> =>
  new Promise((resolve) => {
    socket.once('drain', resolve);
    socket.once('close', resolve);
  });
