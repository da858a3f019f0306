import type { Doors, SignInAnswer } from '../core/imap/mailroom.ts';
import type { ImapOutput } from '../core/imap/output.ts';
import { ImapSession } from '../core/imap/session.ts';
import type { AccessPort } from '../core/mailbox/access-port.ts';
import type { Overhear } from '../core/overhear.ts';
import type { ServerTls } from '../net/certificate.ts';
import { ConversationLine } from '../net/conversation-line.ts';
import type { Connection } from '../net/listener.ts';
import type { AccessParts, OpenConversation } from './open-conversation.ts';
import { ClientGone, StoredMailroom } from './stored-mailroom.ts';

/** RFC 3501 §5.4: at least thirty minutes for who has signed in. */
const IDLE_MS = 31 * 60_000;
/** A stranger gets a minute. */
const STRANGER_MS = 60_000;
/** In all, whatever is said. */
const STRANGER_MOST_MS = 180_000;

interface ImapSettings {
  hostName: string;
  version: string;
  maxMessageBytes: number;
  tls: ServerTls;
  overhear?: Overhear | undefined;
  now: () => number;
  /** Another folder is open than before, by number, or none. */
  onFolder: (folder: number | null) => void;
}

/** Carries octets between one connection and its IMAP session. */
export function serveImap(connection: Connection, settings: ImapSettings, parts: AccessParts): OpenConversation {
  const { port, onFault } = parts;
  const { clientAddress } = connection;
  let number: number | null = null;
  let selected: number | null = null;
  let mailroom: StoredMailroom | null = null;
  const doors: Doors = {
    now: settings.now,
    signIn: async (user, password): Promise<SignInAnswer> => {
      const reply = await port.signIn({ service: 'IMAP', user, password, clientAddress });
      if (reply.kind !== 'ok') return refusedSignIn(reply);
      // The client may have gone while the password was compared.
      if (line.socket.destroyed) {
        port.leave(reply.session);
        return { kind: 'refused', code: 'UNAVAILABLE', text: 'Closed' };
      }
      number = reply.session;
      line.setIdle(IDLE_MS);
      mailroom = new StoredMailroom(parts, reply);
      return { kind: 'ok', mailroom };
    },
    signInInClear: (user) => port.signInInClear('IMAP', clientAddress, user),
    program: (name) => {
      if (number !== null) port.program(number, name);
    },
  };
  // Whose message must give way can't be told where its next command begins.
  const account = parts.literals.open(() => line.end(() => session.end('The server is receiving too much right now; try again soon')));
  // Who does not sign in has no time to lose.
  const patience = setTimeout(() => {
    if (number === null) line.end(() => session.end('Waited long enough for a sign-in'));
  }, STRANGER_MOST_MS);
  connection.socket.once('close', () => clearTimeout(patience));
  const session = new ImapSession(
    {
      hostName: settings.hostName,
      version: settings.version,
      tlsOffered: true,
      maxMessageBytes: settings.maxMessageBytes,
      secure: connection.secure,
      overhear: settings.overhear,
      account,
    },
    doors,
  );
  const perform = async (outputs: ImapOutput[]): Promise<void> => {
    for (const output of outputs) {
      if (output.kind === 'send') await line.write(Buffer.from(output.bytes, 'latin1'));
      else if (output.kind === 'run')
        await output.work(async (octets) => {
          if (line.socket.destroyed) throw new ClientGone();
          await line.write(octets);
        });
      else if (output.kind === 'start-tls') line.startTls();
      else if (output.kind === 'compress') line.compress();
      else line.close();
    }
    if (session.selected === selected) return;
    selected = session.selected;
    settings.onFolder(selected);
    // Something may have come between its being opened and this.
    if (selected !== null) line.enqueue(() => session.changed());
  };
  const line = new ConversationLine<ImapOutput>(connection, session, {
    tls: settings.tls,
    idleMs: STRANGER_MS,
    onIdle: () => session.end('Waited long enough'),
    perform,
    onClose: () => {
      account.resize(0);
      mailroom?.close();
      if (number !== null) port.leave(number);
      number = null;
    },
    onFault: (error) => {
      if (!(error instanceof ClientGone)) onFault('IMAP', clientAddress, error);
    },
    onTlsFailure: (reason) => port.tlsFailed('IMAP', clientAddress, reason),
  });
  line.enqueue(() => (connection.welcome ? session.greet() : session.end('Too many connections from your address; try later')));
  return {
    get session() {
      return number;
    },
    changed: () => line.enqueue(() => session.changed()),
    stop: (text) => line.end(() => session.end(text)),
  };
}

function refusedSignIn(reply: Exclude<Awaited<ReturnType<AccessPort['signIn']>>, { kind: 'ok' }>): SignInAnswer {
  if (reply.kind === 'held')
    return { kind: 'refused', code: 'UNAVAILABLE', text: `Too many wrong sign-ins; try again in ${reply.seconds} seconds` };
  if (reply.kind === 'too-many') return { kind: 'refused', code: 'LIMIT', text: 'Too many sessions of this mailbox are open' };
  if (reply.kind === 'wrong') return { kind: 'refused', code: 'AUTHENTICATIONFAILED', text: 'User name or password is wrong' };
  return { kind: 'refused', code: 'UNAVAILABLE', text: 'Too many sign-ins right now; try again soon' };
}
