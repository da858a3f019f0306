import type { Socket } from 'node:net';
import type { SecureContext } from 'node:tls';
import { REPLIES, type Reply } from '../core/smtp/replies.ts';
import { type Intent, type Output, ServerSession } from '../core/smtp/server-session.ts';
import { type Connection, upgradeToTls } from './listener.ts';

export interface SmtpSettings {
  hostName: string;
  service: 'inbound' | 'submission';
  maxMessageBytes: number;
  secureContext: SecureContext;
}

/** RFC 5321 §4.5.3.2.7 */
const IDLE_MS = 5 * 60_000;
const MOST_RECIPIENTS = 1000;
const MOST_WAITING = 256 * 1024;

/** What the session knows of the client when it asks for a decision. */
export interface SessionFacts {
  helo: string;
  protocol: ServerSession['protocol'];
  secure: boolean;
  user: string | null;
}

/** Who decides what one conversation asks: the service, or a stand-in. */
export interface Decider {
  decide(intent: Intent, facts: SessionFacts): Promise<{ accepted: boolean; reply: Reply }>;
  abandon(): void;
  closed(): void;
  note(event: string, data: object): void;
  fault(error: unknown): void;
}

/** What the server can do to an open conversation. */
export interface OpenConversation {
  stop(): void;
}

/** Carries octets between one connection and its session, and asks the conversation for decisions. */
export function serveSmtp(connection: Connection, settings: SmtpSettings, conversation: Decider): OpenConversation {
  let socket: Socket = connection.socket;
  const session = new ServerSession({
    hostName: settings.hostName,
    service: settings.service,
    maxMessageBytes: settings.maxMessageBytes,
    maxRecipients: MOST_RECIPIENTS,
    tlsOffered: true,
    secure: connection.secure,
  });
  let chain: Promise<void> = Promise.resolve();
  let stopping = false;

  const decide = async (output: Output & { kind: 'ask' }): Promise<void> => {
    const decision = await conversation.decide(output.intent, {
      helo: session.helo ?? '',
      protocol: session.protocol,
      secure: session.secure,
      user: session.user,
    });
    await perform(session.answer(decision));
    if (stopping && output.intent.kind === 'message') await perform(session.end(REPLIES.stopping(settings.hostName)));
    if (session.waiting <= MOST_WAITING) socket.resume();
  };

  const perform = async (outputs: Output[]): Promise<void> => {
    // Replies to a pipelined group leave in one packet (RFC 2920 §3.2).
    let text = '';
    const flush = (): void => {
      if (text !== '' && socket.writable) socket.write(text);
      text = '';
    };
    for (const output of outputs) {
      if (output.kind === 'send') text += output.text;
      else if (output.kind === 'abandon') conversation.abandon();
      else {
        flush();
        if (output.kind === 'close') socket.end();
        else if (output.kind === 'start-tls') startTls();
        else await decide(output);
      }
    }
    flush();
  };

  const enqueue = (step: () => Output[]): void => {
    chain = chain
      .then(() => perform(step()))
      .catch((error) => {
        conversation.fault(error);
        socket.destroy();
      });
  };

  const onData = (bytes: Buffer): void => {
    const outputs = session.receive(bytes);
    if (session.waiting > MOST_WAITING) socket.pause();
    if (outputs.length > 0) enqueue(() => outputs);
  };

  const onClose = (): void => conversation.closed();

  const attach = (to: Socket): void => {
    socket = to;
    socket.setTimeout(IDLE_MS, () => enqueue(() => session.end(REPLIES.idle(settings.hostName))));
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
    const secured = upgradeToTls(plain, settings.secureContext, (reason) => {
      conversation.note('tls-failed', { reason });
      plain.destroy();
    });
    session.tlsStarted();
    attach(secured);
  };

  attach(socket);
  enqueue(() => (connection.welcome ? session.greet() : session.end(REPLIES.tooManyConnections(settings.hostName))));
  return {
    stop: () => {
      stopping = true;
      if (!session.receivingMessage) enqueue(() => session.end(REPLIES.stopping(settings.hostName)));
    },
  };
}
