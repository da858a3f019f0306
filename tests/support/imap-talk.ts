import { StoredMailroom } from '../../src/access/stored-mailroom.ts';
import { OwnersGate } from '../../src/core/gate.ts';
import type { Doors, Mailroom } from '../../src/core/imap/mailroom.ts';
import type { ImapOutput } from '../../src/core/imap/output.ts';
import { ImapSession } from '../../src/core/imap/session.ts';
import type { OctetAccount } from '../../src/core/smtp/octet-budget.ts';
import { addMailbox } from '../../src/service/directory/mailboxes.ts';
import { operateAs } from '../../src/service/mailbox/operate-as.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { keepOutline } from '../../src/store/outlines.ts';
import { SearchIndex } from '../../src/store/search-index.ts';
import { TextReader } from '../../src/store/text-reader.ts';
import type { Bare } from './context.ts';

/** A mailbox of a bare service, without signing in. */
export function mailroomFor({ context, folder }: Bare, address: string, index = new SearchIndex(folder)): Mailroom {
  const [local = '', domain = ''] = address.split('@');
  const mailbox = findMailbox(context.db, local, domain);
  if (!mailbox) throw new Error(`no mailbox ${address}`);
  const unused = (): never => {
    throw new Error('not for this test');
  };
  return new StoredMailroom(
    {
      db: context.db,
      texts: new TextReader(context.db, folder),
      index,
      largeTexts: new OwnersGate(1e9),
      port: {
        signIn: unused,
        operate: (_session, operation) => operateAs(context, mailbox.id, operation),
        leave: () => {},
        program: () => {},
        keepOutlines: (some) => {
          context.db.commit(() => some.map(({ file, outline }) => keepOutline(context.db, file, outline))).catch(unused);
        },
        wasRead: () => {},
        textLost: unused,
        signInInClear: unused,
        tlsFailed: unused,
      },
    },
    { session: 1, mailboxId: mailbox.id, address },
  );
}

/** One IMAP conversation without a socket; what the server says comes back as text. */
export class ImapTalk {
  readonly session: ImapSession;
  private said = '';
  private tags = 0;
  readonly events: string[] = [];

  constructor(
    mailroom: Mailroom | null,
    { secure = true, now = () => 0, account }: { secure?: boolean; now?: () => number; account?: OctetAccount } = {},
  ) {
    const doors: Doors = {
      now,
      signIn: async (user, password) =>
        mailroom && password === 'right'
          ? { kind: 'ok', mailroom }
          : { kind: 'refused', code: 'AUTHENTICATIONFAILED', text: `User name or password is wrong for ${user}` },
      signInInClear: (user) => this.events.push(`in clear ${user}`),
      program: (name) => this.events.push(`program ${name}`),
    };
    this.session = new ImapSession(
      { hostName: 'mail.host.example', version: '1', tlsOffered: true, maxMessageBytes: 100_000, secure, account },
      doors,
    );
  }

  /** Opens a conversation that has signed in. */
  static async signedIn(mailroom: Mailroom, options?: { now?: () => number; account?: OctetAccount }): Promise<ImapTalk> {
    const talk = new ImapTalk(mailroom, options);
    await talk.perform(talk.session.greet());
    await talk.send('a LOGIN ana@shop.example right\r\n');
    talk.said = '';
    return talk;
  }

  /** What was said since the last time. */
  take(): string {
    const { said } = this;
    this.said = '';
    return said;
  }

  /** Octets as they are; returns what the server says to them. */
  async send(octets: string | Buffer): Promise<string> {
    await this.perform(this.session.receive(typeof octets === 'string' ? Buffer.from(octets, 'latin1') : octets));
    return this.take();
  }

  /** A command with a tag of its own, literals and all; returns the lines of the answer without the tag. */
  async ask(command: string): Promise<string[]> {
    this.tags += 1;
    const tag = `t${this.tags}`;
    const answer = await this.send(`${tag} ${command}\r\n`);
    return answer
      .split(/\r\n/)
      .filter((line) => line !== '')
      .map((line) => (line.startsWith(`${tag} `) ? line.slice(tag.length + 1) : line));
  }

  /** Puts a message into a folder. */
  append(folder: string, text: string, before = ''): Promise<string[]> {
    return this.ask(`APPEND ${folder} ${before === '' ? '' : `${before} `}{${Buffer.byteLength(text, 'latin1')}+}\r\n${text}`);
  }

  /** The server tells that the selected folder has changed. */
  async hear(): Promise<string> {
    await this.perform(this.session.changed());
    return this.take();
  }

  async perform(outputs: ImapOutput[]): Promise<void> {
    for (let next = outputs; next.length > 0; next = this.session.proceed())
      for (const output of next) {
        if (output.kind === 'send') this.said += output.bytes;
        else if (output.kind === 'run')
          await output.work(async (octets) => {
            this.said += typeof octets === 'string' ? octets : octets.toString('latin1');
          });
        else this.events.push(output.kind);
      }
  }
}

let mailboxes = 0;
/** Two conversations of a new mailbox. */
export async function openTalks(bare: Bare): Promise<{ address: string; talk: ImapTalk; other: ImapTalk }> {
  mailboxes += 1;
  const address = `m${mailboxes}@shop.example`;
  const { db, clock } = bare.context;
  await db.commit(() => db.run('UPDATE plan SET most_mailboxes = 1000'));
  await addMailbox(bare.context, { address, password: null, quotaBytes: null });
  const open = () => ImapTalk.signedIn(mailroomFor(bare, address), { now: () => clock.now() });
  return { address, talk: await open(), other: await open() };
}

export const message = (subject: string, more = '', body = 'Hello\r\n'): string =>
  `From: Terry Gray <gray@cac.example>\r\nTo: imap@cac.example\r\nSubject: ${subject}\r\n${more}\r\n${body}`;
