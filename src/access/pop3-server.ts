import type { ArrivedText, SignInReply } from '../core/mailbox/access-port.ts';
import { MultiLine } from '../core/message/multi-line.ts';
import { outlineInTurns } from '../core/mime/outline.ts';
import type { Overhear } from '../core/overhear.ts';
import { breathe } from '../core/pieces.ts';
import type { PopAnswer, PopIntent, PopMessage, PopOutput } from '../core/pop3/intents.ts';
import { PopSession } from '../core/pop3/session.ts';
import { SHOWN_AT_ONCE, shownHeader } from '../core/pop3/shown-header.ts';
import { type ShownMore, shownAs } from '../core/pop3/shown-size.ts';
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
/** Octets of texts of which nobody has counted yet what is sent: so many are read while a client waits for its sign-in, the others afterwards. */
const MOST_COUNTED = 16 * 1024 * 1024;

interface PopSettings {
  hostName: string;
  tls: ServerTls;
  overhear?: Overhear | undefined;
  /** Finds out, when nobody waits, what is kept of some texts. */
  outlineLater: (texts: readonly ArrivedText[]) => void;
}

/** Carries octets between one connection and its POP3 session. */
export function servePop3(connection: Connection, settings: PopSettings, parts: AccessParts): OpenConversation {
  const session = new PopSession({ hostName: settings.hostName, tlsOffered: true, secure: connection.secure, overhear: settings.overhear });
  const reader = new MailboxReader(parts, connection.clientAddress, settings.outlineLater);
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

/** A message of whose text nobody has counted yet what is sent. */
interface Uncounted {
  message: PopMessage;
  file: string;
  /** In octets, of the text. */
  size: number;
  as: keyof ShownMore;
}

/** Decides what one POP3 conversation asks. */
class MailboxReader {
  session: number | null = null;
  private mailboxId = -1;
  private isClosed = false;
  private found: { message: StoredMessage; first: Buffer; shown: Buffer; prefix: Buffer } | null = null;

  constructor(
    private readonly parts: AccessParts,
    private readonly clientAddress: string,
    private readonly outlineLater: PopSettings['outlineLater'],
  ) {}

  async decide(intent: PopIntent): Promise<PopAnswer> {
    if (this.isClosed) return { kind: 'refused', code: 'SYS/TEMP', text: 'Closed' };
    if (intent.kind === 'sign-in') return this.signIn(intent);
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
    const { message, first, shown, prefix } = found;
    const size = message.size - message.prefix.length;
    yield prefix;
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
      const first = await this.parts.texts.slice(message.file, size, 0, SHOWN_AT_ONCE);
      const shown = shownHeader(first, { isUtf8, isJunk: message.isJunk === 1 });
      this.found = { message, first, shown, prefix: shownPrefix(message.prefix, isUtf8) };
      return { kind: 'content' };
    } catch (error) {
      if (!(error instanceof TextLost)) throw error;
      this.parts.port.textLost(session, error.text, error.how);
      return { kind: 'refused', code: 'SYS/PERM', text: 'The text of that message is damaged; your provider has been told' };
    }
  }

  /** Adds what is sent more of messages of which that is not known, as far as a client can wait for it. */
  private async count(uncounted: readonly Uncounted[]): Promise<void> {
    const made = [];
    let octets = 0;
    for (const [place, { message, file, size, as }] of uncounted.entries()) {
      octets += size;
      if (octets > MOST_COUNTED || this.isClosed) {
        this.outlineLater(uncounted.slice(place));
        break;
      }
      const text = await this.parts.texts.slice(file, size, 0, size).catch((error: unknown) => {
        // Who reads that message is told.
        if (error instanceof TextLost) return null;
        throw error;
      });
      if (!text) continue;
      const outline = await outlineInTurns(text);
      message.size += outline.shownMore[as];
      made.push({ file, outline });
    }
    if (made.length > 0) this.parts.port.keepOutlines(made);
  }

  private async signIn({ user, password, isUtf8 }: Extract<PopIntent, { kind: 'sign-in' }>): Promise<PopAnswer> {
    const reply = await this.parts.port.signIn({ service: 'POP3', user, password, clientAddress: this.clientAddress });
    if (reply.kind !== 'ok') return refusedSignIn(reply);
    // The client may have gone while the password was checked.
    if (this.isClosed) {
      this.parts.port.leave(reply.session);
      return { kind: 'refused', code: 'SYS/TEMP', text: 'Closed' };
    }
    this.session = reply.session;
    this.mailboxId = reply.mailboxId;
    const messages: PopMessage[] = [];
    const uncounted: Uncounted[] = [];
    for (const folder of listPopFolders(this.parts.db, reply.mailboxId))
      for (let after: number | null = 0; after !== null; ) {
        const some = listSizesPart(this.parts.db, folder.id, shownAs(isUtf8, folder.isJunk), after, A_PIECE);
        for (const { id, size, prefix, file, more } of some) {
          const ofPrefix = shownPrefix(prefix, isUtf8).length - prefix.length;
          const message = { id, size: size + ofPrefix + (more ?? 0), uid: `m${id}` };
          messages.push(message);
          if (more === null) uncounted.push({ message, file, size: size - prefix.length, as: shownAs(isUtf8, folder.isJunk) });
        }
        after = some.length < A_PIECE ? null : (some.at(-1)?.uid ?? null);
        await breathe();
      }
    await this.count(uncounted);
    // The oldest first, whichever folder they lie in.
    return { kind: 'opened', messages: messages.sort((one, other) => one.id - other.id) };
  }
}

/** The field that says who sent a message, which does not stand in its text. */
function shownPrefix(prefix: string, isUtf8: boolean): Buffer {
  return shownHeader(Buffer.from(prefix, 'latin1'), { isUtf8, isJunk: false });
}

function refusedSignIn(reply: Exclude<SignInReply, { kind: 'ok' }>): PopAnswer {
  if (reply.kind === 'held')
    return { kind: 'refused', code: 'SYS/TEMP', text: `Too many wrong sign-ins; try again in ${reply.seconds} seconds` };
  if (reply.kind === 'wrong') return { kind: 'refused', code: 'AUTH', text: 'User name or password is wrong' };
  if (reply.kind === 'in-use') return { kind: 'refused', code: 'IN-USE', text: 'The mailbox is open in another session' };
  return { kind: 'refused', code: 'SYS/TEMP', text: 'Too many sign-ins right now; try again soon' };
}
