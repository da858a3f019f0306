import type { SignInReply } from '../core/mailbox/access-port.ts';
import { MultiLine } from '../core/message/multi-line.ts';
import type { Overhear } from '../core/overhear.ts';
import { breathe } from '../core/pieces.ts';
import type { PopAnswer, PopIntent, PopOutput } from '../core/pop3/intents.ts';
import { PopSession } from '../core/pop3/session.ts';
import { JUNK_MARK_OCTETS, shownHeader } from '../core/pop3/shown-header.ts';
import type { ServerTls } from '../net/certificate.ts';
import { ConversationLine } from '../net/conversation-line.ts';
import type { Connection } from '../net/listener.ts';
import { TextLost } from '../store/message-files.ts';
import { findStored, listPopFolders, listSizesPart, type StoredMessage } from '../store/messages.ts';
import type { AccessParts, OpenConversation } from './open-conversation.ts';

/** RFC 1939 §3: at least ten minutes. */
const IDLE_MS = 10 * 60_000;
/** Messages of the Inbox that are read in one turn. */
const A_PIECE = 5000;
/** Octets of a text that are read at once. */
const A_SLICE = 256 * 1024;

/** Carries octets between one connection and its POP3 session. */
export function servePop3(
  connection: Connection,
  settings: { hostName: string; tls: ServerTls; overhear?: Overhear | undefined },
  parts: AccessParts,
): OpenConversation {
  const session = new PopSession({ hostName: settings.hostName, tlsOffered: true, secure: connection.secure, overhear: settings.overhear });
  const reader = new MailboxReader(parts, connection.clientAddress);
  /** Piece by piece, as the client takes it. */
  const sendText = async (lines: number | null): Promise<void> => {
    const text = new MultiLine(lines, true);
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
      else if (output.kind === 'sign-in-in-clear') parts.port.signInInClear('POP3', connection.clientAddress, output.user);
      else await perform(session.answer(await reader.decide(output.intent)));
    }
  };
  const line = new ConversationLine<PopOutput>(connection, session, {
    tls: settings.tls,
    idleMs: IDLE_MS,
    onIdle: () => session.end('Waited long enough'),
    perform,
    onClose: () => reader.closed(),
    onFault: (error) => parts.onFault('POP3', connection.clientAddress, error),
    onTlsFailure: (reason) => parts.port.tlsFailed('POP3', connection.clientAddress, reason),
  });
  line.enqueue(() => (connection.welcome ? session.greet() : session.end('Too many connections from your address; try later')));
  return {
    get session() {
      return reader.session;
    },
    changed: () => {},
    stop: (text) => line.end(() => session.end(text)),
  };
}

/** Decides what one POP3 conversation asks. */
class MailboxReader {
  session: number | null = null;
  private mailboxId = -1;
  private isClosed = false;
  private found: { message: StoredMessage; first: Buffer; shown: Buffer } | null = null;

  constructor(
    private readonly parts: AccessParts,
    private readonly clientAddress: string,
  ) {}

  async decide(intent: PopIntent): Promise<PopAnswer> {
    if (this.isClosed) return { kind: 'refused', code: 'SYS/TEMP', text: 'Closed' };
    if (intent.kind === 'sign-in') return this.signIn(intent.user, intent.password);
    const { session } = this;
    if (session === null) return { kind: 'refused', code: 'SYS/TEMP', text: 'Closed' };
    if (intent.kind === 'remove') {
      const result = await this.parts.port.operate(session, { kind: 'remove', ids: intent.ids });
      return result.kind === 'refused' ? { kind: 'refused', code: 'SYS/TEMP', text: result.text } : { kind: 'removed' };
    }
    return this.open(session, intent);
  }

  /** The text that was found by the last `read`, with its first field, piece by piece. */
  async *text(): AsyncGenerator<Buffer> {
    const { found } = this;
    this.found = null;
    if (!found) return;
    const { message, first, shown } = found;
    const size = message.size - message.prefix.length;
    yield Buffer.from(message.prefix, 'latin1');
    yield shown;
    for (let at = first.length; at < size; at += A_SLICE) yield await this.parts.texts.slice(message.file, size, at, at + A_SLICE);
  }

  closed(): void {
    this.isClosed = true;
    if (this.session !== null) this.parts.port.leave(this.session);
    this.session = null;
  }

  /** That the text is there is known before the client is told that it comes. */
  private async open(session: number, { id, isUtf8 }: Extract<PopIntent, { kind: 'read' }>): Promise<PopAnswer> {
    const message = findStored(this.parts.db, this.mailboxId, id);
    if (!message) return { kind: 'refused', code: 'SYS/TEMP', text: 'The message is gone' };
    const size = message.size - message.prefix.length;
    try {
      await this.parts.texts.requireWhole(message.file, size);
      const first = await this.parts.texts.slice(message.file, size, 0, A_SLICE);
      this.found = { message, first, shown: shownHeader(first, { isUtf8, isJunk: message.isJunk === 1 }) };
      return { kind: 'content' };
    } catch (error) {
      if (!(error instanceof TextLost)) throw error;
      this.parts.port.textLost(session, error.text, error.how);
      return { kind: 'refused', code: 'SYS/PERM', text: 'The text of that message is damaged; your provider has been told' };
    }
  }

  private async signIn(user: string, password: string): Promise<PopAnswer> {
    const reply = await this.parts.port.signIn({ service: 'POP3', user, password, clientAddress: this.clientAddress });
    if (reply.kind !== 'ok') return refusedSignIn(reply);
    // The client may have gone while the password was checked.
    if (this.isClosed) {
      this.parts.port.leave(reply.session);
      return { kind: 'refused', code: 'SYS/TEMP', text: 'Closed' };
    }
    this.session = reply.session;
    this.mailboxId = reply.mailboxId;
    const messages: { id: number; size: number; uid: string }[] = [];
    for (const folder of listPopFolders(this.parts.db, reply.mailboxId))
      for (let after: number | null = 0; after !== null; ) {
        const some = listSizesPart(this.parts.db, folder.id, after, A_PIECE);
        const more = folder.isJunk ? JUNK_MARK_OCTETS : 0;
        messages.push(...some.map(({ id, size }) => ({ id, size: size + more, uid: `m${id}` })));
        after = some.length < A_PIECE ? null : (some.at(-1)?.uid ?? null);
        await breathe();
      }
    // The oldest first, whichever folder they lie in.
    return { kind: 'opened', messages: messages.sort((one, other) => one.id - other.id) };
  }
}

function refusedSignIn(reply: Exclude<SignInReply, { kind: 'ok' }>): PopAnswer {
  if (reply.kind === 'held')
    return { kind: 'refused', code: 'SYS/TEMP', text: `Too many wrong sign-ins; try again in ${reply.seconds} seconds` };
  if (reply.kind === 'wrong') return { kind: 'refused', code: 'AUTH', text: 'User name or password is wrong' };
  if (reply.kind === 'in-use') return { kind: 'refused', code: 'IN-USE', text: 'The mailbox is open in another session' };
  return { kind: 'refused', code: 'SYS/TEMP', text: 'Too many sign-ins right now; try again soon' };
}
