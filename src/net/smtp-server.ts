import type { Overhear } from '../core/overhear.ts';
import type { OctetBudget } from '../core/smtp/octet-budget.ts';
import { REPLIES, type Reply } from '../core/smtp/replies.ts';
import type { Intent, Output, SessionFacts } from '../core/smtp/server/intents.ts';
import { ServerSession } from '../core/smtp/server/session.ts';
import type { ServerTls } from './certificate.ts';
import { ConversationLine } from './conversation-line.ts';
import type { Connection } from './listener.ts';

export interface SmtpSettings {
  hostName: string;
  service: 'inbound' | 'submission';
  maxMessageBytes: number;
  tls: ServerTls;
  /** What this host is reached at. */
  addresses?: readonly string[];
  /** A client that may submit without signing in. */
  trusted?: boolean;
  /** How long a client must be silent before it is greeted; who speaks in that time is refused. */
  greetAfterMs?: number;
  /** Bounds what messages under way hold, over all conversations. */
  budget?: OctetBudget;
  /** How long a client may take to come one reply further, or 64 KiB of a message. */
  progressMs?: number;
  overhear?: Overhear | undefined;
}

/** RFC 5321 §4.5.3.2.7 */
const IDLE_MS = 5 * 60_000;
const MOST_RECIPIENTS = 1000;
const PROGRESS_MS = 10 * 60_000;
const PROGRESS_OCTETS = 64 * 1024;

/** Who decides what one conversation asks: the service, or a stand-in. */
export interface Decider {
  decide(intent: Intent, facts: SessionFacts): Promise<{ accepted: boolean; reply: Reply }>;
  abandon(): void;
  closed(): void;
  /** Somebody tried to sign in without TLS, and was refused. */
  signInInClear?(user: string | null): void;
  spokeEarly?(reply: Reply): void;
  tlsFailed?(reason: string): void;
  /** Gets the way to end the conversation from outside, with a last word. */
  ends?(end: (reply: Reply) => void): void;
  fault(error: unknown): void;
}

/** What the server can do to an open conversation. */
export interface OpenConversation {
  stop(): void;
}

/** Carries octets between one connection and its session, and asks the conversation for decisions. */
export function serveSmtp(connection: Connection, settings: SmtpSettings, conversation: Decider): OpenConversation {
  const session = new ServerSession({
    hostName: settings.hostName,
    service: settings.service,
    maxMessageBytes: settings.maxMessageBytes,
    maxRecipients: MOST_RECIPIENTS,
    tlsOffered: true,
    secure: connection.secure,
    trusted: settings.trusted === true,
    addresses: settings.addresses ?? [],
    overhear: settings.overhear,
    ...(settings.budget ? { budget: settings.budget } : {}),
  });
  let stopping = false;
  // Octet by octet a client never idles; what counts is that it gets on.
  let octets = 0;
  let slow: NodeJS.Timeout | null = null;
  const gotOn = (): void => {
    octets = 0;
    if (slow) clearTimeout(slow);
    slow = setTimeout(() => line.end(() => session.end(REPLIES.tooSlow(settings.hostName))), settings.progressMs ?? PROGRESS_MS);
    slow.unref();
  };

  // Replies to a pipelined group leave in one packet (RFC 2920 §3.2).
  let text = '';
  const flush = async (): Promise<void> => {
    if (text === '') return;
    const said = text;
    text = '';
    await line.write(said);
    gotOn();
  };

  const decide = async ({ intent }: Output & { kind: 'ask' }): Promise<void> => {
    const { helo, protocol, secure, user } = session;
    const decision = conversation.decide(intent, { helo: helo ?? '', protocol, secure, user });
    // What was said before waits for what is decided at once, and for nothing else.
    const late = text === '' ? null : setImmediate(() => flush().catch((error: unknown) => conversation.fault(error)));
    const decided = await decision;
    if (late) clearImmediate(late);
    await take(session.answer(decided));
    if (stopping && intent.kind === 'message') await take(session.end(REPLIES.stopping(settings.hostName)));
  };

  const take = async (outputs: Output[]): Promise<void> => {
    for (const output of outputs) {
      if (output.kind === 'send') text += output.text;
      else if (output.kind === 'abandon') conversation.abandon();
      else if (output.kind === 'sign-in-in-clear') conversation.signInInClear?.(output.user);
      else if (output.kind === 'spoke-early') conversation.spokeEarly?.(output.reply);
      else if (output.kind === 'ask') await decide(output);
      else {
        await flush();
        if (output.kind === 'close') line.close();
        else line.startTls();
      }
    }
  };
  const perform = async (outputs: Output[]): Promise<void> => {
    await take(outputs);
    await flush();
  };

  const line = new ConversationLine<Output>(connection, session, {
    tls: settings.tls,
    idleMs: IDLE_MS,
    onIdle: () => session.end(REPLIES.idle(settings.hostName)),
    perform,
    onOctets: (count) => {
      octets += count;
      if (session.receivingMessage && octets >= PROGRESS_OCTETS) gotOn();
    },
    onClose: () => {
      if (slow) clearTimeout(slow);
      session.gone();
      conversation.closed();
    },
    onFault: (error) => conversation.fault(error),
    onTlsFailure: (reason) => conversation.tlsFailed?.(reason),
  });
  conversation.ends?.((reply) => line.end(() => session.end(reply)));
  const greet = (): void => {
    line.enqueue(() => (connection.welcome ? session.greet() : session.end(REPLIES.tooManyConnections(settings.hostName))));
  };
  const { greetAfterMs = 0 } = settings;
  if (greetAfterMs === 0) greet();
  else session.awaitGreeting(REPLIES.spokeEarly(settings.hostName));
  const greeting = greetAfterMs === 0 ? null : setTimeout(greet, greetAfterMs);
  if (greeting) connection.socket.once('close', () => clearTimeout(greeting));
  return {
    stop: () => {
      stopping = true;
      if (!session.receivingMessage) line.end(() => session.end(REPLIES.stopping(settings.hostName)));
    },
  };
}
