import type {
  AccessListener,
  AccessPort,
  AccessService,
  ArrivedText,
  SignInQuestion,
  SignInReply,
} from '../../core/mailbox/access-port.ts';
import type { MailboxOperation, OperationResult } from '../../core/mailbox/operations.ts';
import type { Outline } from '../../core/mime/outline.ts';
import type { MessageReading } from '../../core/trial/reading.ts';
import { noteAppPasswordProgram } from '../../store/app-passwords.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { TextLost } from '../../store/message-files.ts';
import { journeyOfText } from '../../store/messages.ts';
import { keepOutline } from '../../store/outlines.ts';
import type { RowChange } from '../../store/row-changes.ts';
import { noteLost } from '../acceptance/lost-texts.ts';
import { signInMailbox } from '../access/sign-in-mailbox.ts';
import { noteInClear, noteTlsFault } from '../access/sign-in-troubles.ts';
import { faultText } from '../base/problem.ts';
import type { MailboxDeps } from './deps.ts';
import { operateAs } from './operate-as.ts';

/** Sessions of one mailbox at the same time: a person with many devices has a few dozen. */
const MOST_SESSIONS = 100;
/** A message that ends so many processes that read it is read by no other. */
const MOST_TRIES = 2;
/** Outlines may wait a little, so that many are written together. */
const OUTLINES_WITHIN_MS = 200;

/** A session of a mail program. */
interface MailSession {
  number: number;
  service: AccessService;
  mailboxId: number;
  address: string;
  client: string;
  /** By which app password it signed in; null for the mailbox's own. */
  appPassword: number | null;
  /** As it says itself; null when it has not said. */
  program: string | null;
  since: number;
}

/** Where those who speak to mail programs ask: it signs in, writes, and tells them what has changed. */
export class AccessDesk {
  private readonly sessions = new Map<number, MailSession & { leave: () => void }>();
  private readonly listeners = new Set<AccessListener>();
  /** The one of them that keeps the index of folders. */
  private indexing: AccessListener | null = null;
  /** Messages that one of them is reading. */
  private readonly reads = new Map<number, { by: AccessListener; end: (read: Read) => void }>();
  private last = 0;
  private turn = 0;
  private underWay = 0;

  constructor(private readonly context: () => MailboxDeps) {}

  /** Those of a mailbox, the newest last. */
  of(mailboxId: number): MailSession[] {
    return [...this.sessions.values()].filter((one) => one.mailboxId === mailboxId).map(({ leave: _leave, ...one }) => one);
  }

  /** How much there is to do: who is signed in, by how many processes, and changes that are under way. */
  load(): { processes: number; imap: number; pop3: number; underWay: number } {
    return { processes: this.listeners.size, imap: this.count('IMAP'), pop3: this.count('POP3'), underWay: this.underWay };
  }

  /** How many are open, by what they speak. */
  count(service: AccessService): number {
    let count = 0;
    for (const one of this.sessions.values()) if (one.service === service) count += 1;
    return count;
  }

  follow(changes: readonly RowChange[]): void {
    const folders = changes.filter((one) => one.kind === 'folder').map((one) => one.id);
    if (folders.length > 0) {
      const changed = [...new Set(folders)];
      for (const listener of this.listeners) listener.changed(changed);
      // What is not indexed now is when the folder changes again, and is looked at until then.
      if (this.context().space.isEnough) this.indexing?.index(changed);
    }
    // Another plan may mean that texts are indexed.
    if (changes.some((one) => one.what === 'changed' && (one.kind === 'plan' || one.kind === 'domain'))) this.indexing?.index('all');
  }

  /** One of those who serve mail programs finds out what is to be known of these, each in its turn. */
  arrived(texts: readonly ArrivedText[]): void {
    const all = [...this.listeners];
    this.turn += 1;
    all[this.turn % all.length]?.arrived(texts);
  }

  /** One of those who serve mail programs reads a message; null where it is gone. Throws when nobody can read it. */
  async read(text: ArrivedText, at: number): Promise<MessageReading | null> {
    for (let tries = 0; tries < MOST_TRIES; tries += 1) {
      const all = [...this.listeners];
      this.turn += 1;
      const by = all[this.turn % all.length];
      if (!by) break;
      const call = this.turn;
      const read = await new Promise<Read>((end) => {
        this.reads.set(call, { by, end });
        by.read(call, text, at);
      });
      this.reads.delete(call);
      if (read.kind === 'read') return read.reading;
    }
    throw new Error('no access process could read the message');
  }

  /** Opens the desk for one who serves mail programs; `close` ends all of its sessions. */
  open(listener: AccessListener): { port: AccessPort; close: () => void } {
    const own = new Set<number>();
    this.listeners.add(listener);
    if (this.indexing === null) this.giveIndexTo(listener);
    const port: AccessPort = {
      signIn: (question) => this.signIn(question, own, listener),
      operate: async (session, operation) => (own.has(session) ? this.operate(session, operation) : GONE),
      leave: (session) => {
        if (own.delete(session)) this.leave(session);
      },
      program: (session, name) => {
        const found = this.sessions.get(session);
        if (!found || !own.has(session)) return;
        found.program = name;
        this.noteProgram(found, name);
      },
      keepOutlines: (some) => this.keepOutlines(some),
      wasRead: (call, reading) => {
        const found = this.reads.get(call);
        if (found?.by === listener) found.end({ kind: 'read', reading });
      },
      textLost: (session, file, how) => this.textLost(session, file, how),
      signInInClear: (service, client, user) => noteInClear(this.context(), service, client, user),
      tlsFailed: (service, client, reason) => noteTlsFault(this.context(), service, client, reason),
    };
    return {
      port,
      close: () => {
        this.listeners.delete(listener);
        for (const one of this.reads.values()) if (one.by === listener) one.end({ kind: 'ended' });
        if (this.indexing === listener) this.giveIndexTo([...this.listeners][0] ?? null);
        for (const session of own) this.leave(session);
        own.clear();
      },
    };
  }

  private giveIndexTo(listener: AccessListener | null): void {
    this.indexing = listener;
    // Whoever opens the desk may not be ready to hear of it at once.
    setImmediate(() => {
      if (listener && this.indexing === listener) listener.index('all');
    });
  }

  private async signIn(
    { service, user, password, clientAddress }: SignInQuestion,
    own: Set<number>,
    listener: AccessListener,
  ): Promise<SignInReply> {
    const context = this.context();
    const result = await signInMailbox(context, user, password, { service, clientAddress });
    if (result.kind !== 'ok') return result;
    const { id, address, domain, domainId, appPassword } = result.mailbox;
    const others = this.of(id);
    if (others.length >= MOST_SESSIONS) return { kind: 'too-many' };
    // RFC 1939 §4: one POP3 session at a time.
    if (service === 'POP3' && others.some((one) => one.service === 'POP3')) return { kind: 'in-use' };
    this.last += 1;
    const number = this.last;
    const customer = findDomainFacts(context.db, domain)?.customerId ?? null;
    const leave = context.sessions.begin({ mailbox: id, app_password: appPassword, domain: domainId, customer }, () => {
      own.delete(number);
      this.leave(number);
      listener.end(number);
    });
    own.add(number);
    this.sessions.set(number, {
      number,
      service,
      mailboxId: id,
      address,
      client: clientAddress,
      appPassword,
      program: null,
      since: context.clock.now(),
      leave,
    });
    return { kind: 'ok', session: number, mailboxId: id, address };
  }

  private leave(session: number): void {
    this.sessions.get(session)?.leave();
    this.sessions.delete(session);
  }

  private async operate(session: number, operation: MailboxOperation): Promise<OperationResult> {
    const context = this.context();
    const mailboxId = this.sessions.get(session)?.mailboxId;
    if (mailboxId === undefined) return GONE;
    this.underWay += 1;
    try {
      return await operateAs(context, mailboxId, operation);
    } catch (error) {
      context.log.error({ operation: operation.kind, fault: faultText(error) }, 'a mailbox could not be changed');
      return { kind: 'refused', why: 'unavailable', text: 'Internal error; try again later' };
    } finally {
      this.underWay -= 1;
    }
  }

  private keepOutlines(some: readonly { file: string; outline: Outline }[]): void {
    const { db, log } = this.context();
    db.commit(() => some.map(({ file, outline }) => keepOutline(db, file, outline)), {
      withinMs: OUTLINES_WITHIN_MS,
      isRepeatable: true,
    }).catch((error: unknown) => log.warn({ fault: faultText(error) }, 'message outlines could not be saved'));
  }

  /** What a device says of itself is kept with its password, for who looks at the list of them. */
  private noteProgram({ appPassword }: MailSession, name: string): void {
    const { db, log } = this.context();
    if (appPassword === null) return;
    db.commit(() => noteAppPasswordProgram(db, appPassword, name), { withinMs: OUTLINES_WITHIN_MS, isRepeatable: true }).catch(
      (error: unknown) => log.warn({ fault: faultText(error) }, 'a device’s client could not be saved'),
    );
  }

  private textLost(session: number, file: string, how: 'gone' | 'cut short'): void {
    const context = this.context();
    const mailboxId = this.sessions.get(session)?.mailboxId ?? null;
    noteLost(context, new TextLost(file, how), { mailboxId, journeyId: journeyOfText(context.db, file) }).catch((error: unknown) =>
      context.log.error({ fault: faultText(error) }, 'a lost message could not be recorded'),
    );
  }
}

type Read = { kind: 'read'; reading: MessageReading | null } | { kind: 'ended' };

const GONE: OperationResult = { kind: 'refused', why: 'unavailable', text: 'The session has ended' };
