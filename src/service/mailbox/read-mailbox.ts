import type { PopAnswer, PopIntent } from '../../core/pop3/intents.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { TextLost } from '../../store/message-files.ts';
import { findStored, listInbox, removeStored } from '../../store/messages.ts';
import { isNoSpace } from '../../store/no-space.ts';
import { noteLost } from '../acceptance/lost-texts.ts';
import { signInMailbox } from '../access/sign-in-mailbox.ts';
import { noteInClear, noteTlsFault } from '../access/sign-in-troubles.ts';
import { faultText } from '../base/problem.ts';
import type { MailboxDeps } from './deps.ts';

/** Decides what one POP3 conversation asks. */
export class MailboxReader {
  private mailboxId: number | null = null;
  private isClosed = false;
  private endNow: (text: string) => void = () => {};
  private leave: () => void = () => {};
  private opened: { head: Buffer; pieces: AsyncIterable<Buffer> } | null = null;

  constructor(
    private readonly context: MailboxDeps,
    private readonly clientAddress: string,
  ) {}

  async decide(intent: PopIntent): Promise<PopAnswer> {
    if (this.isClosed) return { kind: 'refused', code: 'SYS/TEMP', text: 'Closed' };
    try {
      return await this.answerTo(intent);
    } catch (error) {
      this.context.log.error({ client: this.clientAddress, fault: faultText(error) }, 'a POP3 command could not be decided');
      return {
        kind: 'refused',
        code: 'SYS/TEMP',
        text: isNoSpace(error) ? 'The server is short of space right now; try again soon' : 'That could not be done; try again later',
      };
    }
  }

  private async answerTo(intent: PopIntent): Promise<PopAnswer> {
    const { db, texts } = this.context;
    if (intent.kind === 'sign-in') return this.signIn(intent.user, intent.password);
    const mailboxId = this.mailboxId ?? -1;
    if (intent.kind === 'remove') {
      // RFC 1939 §6: when something comes in between, some of what was marked may be left.
      await db.commitInPieces(intent.ids, (some) => removeStored(db, mailboxId, some));
      return { kind: 'removed' };
    }
    const message = findStored(db, mailboxId, intent.id);
    if (!message) return { kind: 'refused', code: 'SYS/TEMP', text: 'The message is gone' };
    const head = Buffer.from(message.prefix);
    try {
      this.opened = { head, pieces: await texts.pieces(message.file, message.size - head.length) };
      return { kind: 'content' };
    } catch (error) {
      if (!(error instanceof TextLost)) throw error;
      await noteLost(this.context, error, { mailboxId, journeyId: message.journeyId });
      return { kind: 'refused', code: 'SYS/PERM', text: 'The text of that message is damaged; your provider has been told' };
    }
  }

  /** The text that was found by the last `read`, with its first field, piece by piece. */
  async *text(): AsyncGenerator<Buffer> {
    const { opened } = this;
    this.opened = null;
    if (!opened) return;
    yield opened.head;
    yield* opened.pieces;
  }

  ends(end: (text: string) => void): void {
    this.endNow = end;
  }

  closed(): void {
    this.isClosed = true;
    this.leave();
    if (this.mailboxId !== null) this.context.openMailboxes.delete(this.mailboxId);
    this.mailboxId = null;
  }

  signInInClear(user: string | null): void {
    noteInClear(this.context, 'POP3', this.clientAddress, user);
  }

  tlsFailed(reason: string): void {
    noteTlsFault(this.context, 'POP3', this.clientAddress, reason);
  }

  fault(error: unknown): void {
    this.context.log.error({ client: this.clientAddress, fault: faultText(error) }, 'POP3 conversation ended by a fault');
  }

  private async signIn(user: string, password: string): Promise<PopAnswer> {
    const result = await signInMailbox(this.context, user, password, { service: 'POP3', clientAddress: this.clientAddress });
    if (result.kind === 'held')
      return { kind: 'refused', code: 'SYS/TEMP', text: `Too many wrong sign-ins; try again in ${result.seconds} seconds` };
    if (result.kind === 'busy') return { kind: 'refused', code: 'SYS/TEMP', text: 'Too many sign-ins right now; try again soon' };
    if (result.kind === 'wrong') return { kind: 'refused', code: 'AUTH', text: 'User name or password is wrong' };
    if (this.context.openMailboxes.has(result.mailbox.id))
      return { kind: 'refused', code: 'IN-USE', text: 'The mailbox is open in another session' };
    // The client may have gone while the password was checked.
    if (this.isClosed) return { kind: 'refused', code: 'SYS/TEMP', text: 'Closed' };
    const { id, domainId, domain } = result.mailbox;
    this.mailboxId = id;
    const customer = findDomainFacts(this.context.db, domain)?.customerId ?? null;
    this.leave = this.context.sessions.begin({ mailbox: id, domain: domainId, customer }, () => {
      this.isClosed = true;
      this.endNow('What you signed in with was changed; sign in again');
    });
    this.context.openMailboxes.add(result.mailbox.id);
    const messages = await listInbox(this.context.db, result.mailbox.id);
    return { kind: 'opened', messages: messages.map(({ id, size }) => ({ id, size, uid: `m${id}` })) };
  }
}
