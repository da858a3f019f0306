import type { SecureContext } from 'node:tls';
import { MultiLine } from '../core/message/multi-line.ts';
import type { Overhear } from '../core/overhear.ts';
import type { PopOutput } from '../core/pop3/intents.ts';
import { PopSession } from '../core/pop3/session.ts';
import type { MailboxReader } from '../service/mailbox/read-mailbox.ts';
import { ConversationLine } from './conversation-line.ts';
import type { Connection } from './listener.ts';
import type { OpenConversation } from './smtp-server.ts';

/** RFC 1939 §3: at least ten minutes. */
const IDLE_MS = 10 * 60_000;

/** Carries octets between one connection and its POP3 session. */
export function servePop3(
  connection: Connection,
  settings: { hostName: string; secureContext: SecureContext; overhear?: Overhear | undefined },
  reader: MailboxReader,
): OpenConversation {
  const session = new PopSession({ hostName: settings.hostName, tlsOffered: true, secure: connection.secure, overhear: settings.overhear });
  /** Piece by piece, as the client takes it. */
  const sendText = async (lines: number | null): Promise<void> => {
    const text = new MultiLine(lines);
    for await (const piece of reader.text()) {
      await line.write(text.push(piece));
      if (text.isFull || line.socket.destroyed) break;
    }
    await line.write(text.end());
  };
  const perform = async (outputs: PopOutput[]): Promise<void> => {
    for (const output of outputs) {
      if (output.kind === 'send') await line.write(output.bytes);
      else if (output.kind === 'text') await sendText(output.lines);
      else if (output.kind === 'close') line.close();
      else if (output.kind === 'start-tls') line.startTls();
      else if (output.kind === 'sign-in-in-clear') reader.signInInClear(output.user);
      else await perform(session.answer(await reader.decide(output.intent)));
    }
  };
  const line = new ConversationLine<PopOutput>(connection, session, {
    secureContext: settings.secureContext,
    idleMs: IDLE_MS,
    onIdle: () => session.end('Waited long enough'),
    perform,
    onClose: () => reader.closed(),
    onFault: (error) => reader.fault(error),
    onTlsFailure: (reason) => reader.tlsFailed(reason),
  });
  reader.ends((text) => line.end(() => session.end(text)));
  line.enqueue(() => (connection.welcome ? session.greet() : session.end('Too many connections from your address; try later')));
  return { stop: () => line.end(() => session.end('The server is stopping; try again soon')) };
}
