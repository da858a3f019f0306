import { HIDDEN, type Overhear, overhearLines } from '../overhear.ts';
import { isBase64, readPlain } from '../sasl-plain.ts';
import type { OctetAccount } from '../smtp/octet-budget.ts';
import { CommandReader, type ReaderOutput, type WrittenCommand } from './command-reader.ts';
import { capabilities } from './commands/any.ts';
import { type SaslAsked, signIn } from './commands/signing-in.ts';
import { type Dialogue, type Ending, endingLine, hasCondstore, type SessionSettings, type Write } from './dialogue.ts';
import { heard } from './heard.ts';
import type { Doors } from './mailroom.ts';
import type { ImapOutput } from './output.ts';
import { memberLimits, STRANGER } from './reader-limits.ts';
import { commandNamed, understand } from './understand.ts';

const MOST_FAULTS = 20;
/** What waits for a line of the client that is no command. */
type Exchange = { kind: 'plain'; tag: string } | { kind: 'idle'; tag: string };

/** The server's side of one IMAP conversation (RFC 3501, RFC 9051), without a socket. */
export class ImapSession {
  private readonly reader: CommandReader;
  private readonly dialogue: Dialogue;
  private readonly overhear: Overhear | undefined;
  private outputs: ImapOutput[] = [];
  private isBusy = false;
  private exchange: Exchange | null = null;
  private isStartingTls = false;
  private faults = 0;
  /** Somebody has told us that the selected folder changed. */
  private isStale = false;

  constructor(
    settings: SessionSettings & { secure: boolean; overhear?: Overhear | undefined; account?: OctetAccount | undefined },
    doors: Doors,
  ) {
    const { secure, overhear, account, ...more } = settings;
    this.overhear = overhear;
    this.dialogue = {
      settings: more,
      doors,
      isSecure: secure,
      mailroom: null,
      view: null,
      reads: null,
      enabled: new Set(),
      saved: [],
      isCompressed: false,
      isEnded: false,
      tag: '',
      mayHold: (octets) => this.reader.mayHold(octets),
    };
    this.reader = new CommandReader(() => (this.dialogue.mailroom ? memberLimits(settings.maxMessageBytes) : STRANGER), account);
  }

  greet(): ImapOutput[] {
    this.say(`* OK [CAPABILITY ${capabilities(this.dialogue)}] ${this.dialogue.settings.hostName} IMAP ready\r\n`);
    return this.take();
  }

  receive(octets: Buffer): ImapOutput[] {
    // Between the answer to STARTTLS and TLS itself nothing is listened to (RFC 3501 §6.2.1).
    if (this.dialogue.isEnded || this.isStartingTls) return [];
    this.reader.push(octets);
    this.advance();
    return this.take();
  }

  /** What was given out has gone, and what was to be done is done: reads on. */
  proceed(): ImapOutput[] {
    this.advance();
    return this.take();
  }

  get waiting(): number {
    // A command that has not come whole waits for its client, and the reader bounds it.
    return this.isBusy ? this.reader.waiting : 0;
  }

  /** The folder that is selected, by number. */
  get selected(): number | null {
    return this.dialogue.view?.folder.id ?? null;
  }

  tlsStarted(): void {
    this.isStartingTls = false;
    this.dialogue.isSecure = true;
    this.reader.clear();
  }

  /** Something in the selected folder has changed: told at once while the client waits for it (RFC 2177), else after its next command. */
  changed(): ImapOutput[] {
    if (this.dialogue.isEnded) return [];
    this.isStale = true;
    if (this.exchange?.kind !== 'idle' || this.isBusy) return [];
    return [
      this.work(async (write) => {
        await this.tellNews(write, true);
      }),
    ];
  }

  /** The server ends the conversation. */
  end(text: string): ImapOutput[] {
    if (this.dialogue.isEnded) return [];
    this.say(`* BYE ${text}\r\n`);
    this.close();
    return this.take();
  }

  private take(): ImapOutput[] {
    const { outputs } = this;
    this.outputs = [];
    return outputs;
  }

  private say(text: string): void {
    overhearLines(this.overhear, 'server', text);
    this.outputs.push({ kind: 'send', bytes: text });
  }

  private close(): void {
    if (this.dialogue.isEnded) return;
    this.dialogue.isEnded = true;
    this.dialogue.view = null;
    this.outputs.push({ kind: 'close' });
  }

  private work(work: (write: Write) => Promise<void>): ImapOutput {
    this.isBusy = true;
    return {
      kind: 'run',
      work: async (write) => {
        try {
          await work(async (octets) => {
            if (typeof octets === 'string') overhearLines(this.overhear, 'server', octets);
            else this.overhear?.('server', `(${octets.length} octets)`);
            await write(typeof octets === 'string' ? Buffer.from(octets, 'latin1') : octets);
          });
        } finally {
          this.reader.done();
          this.isBusy = false;
        }
      },
    };
  }

  private advance(): void {
    while (!this.isBusy && !this.dialogue.isEnded && !this.isStartingTls) {
      const next = this.reader.next(this.exchange !== null);
      if (!next) return;
      this.hear(next);
    }
  }

  private hear(next: ReaderOutput): void {
    if (next.kind === 'continue') return this.say('+ Go on\r\n');
    if (next.kind === 'fault') {
      if (next.isOver) {
        this.say(`* BYE ${next.text}\r\n`);
        return this.close();
      }
      return this.endWith(next.tag, next.code ? { kind: 'NO', code: next.code, text: next.text } : { kind: 'BAD', text: next.text });
    }
    if (next.kind === 'line') return this.answered(next.line);
    this.begin(next.command);
  }

  /** The tagged end of a command. */
  private endWith(tag: string, ending: Ending): void {
    this.reader.done();
    if (ending.kind === 'BAD') this.faults += 1;
    this.say(endingLine(tag, ending));
    if (this.faults < MOST_FAULTS) return;
    this.say('* BYE Too many unknown commands\r\n');
    this.close();
  }

  private answered(line: string): void {
    const { exchange } = this;
    this.exchange = null;
    if (exchange?.kind === 'idle') {
      this.overhear?.('client', line.slice(0, 100));
      if (line.toUpperCase() !== 'DONE') return this.endWith(exchange.tag, { kind: 'BAD', text: 'DONE ends IDLE' });
      this.outputs.push(
        this.work(async (write) => {
          await this.tellNews(write, true);
          await this.finish(exchange.tag, { kind: 'OK', text: 'Done' }, write);
        }),
      );
      return;
    }
    if (!exchange) return;
    this.overhear?.('client', HIDDEN);
    if (line === '*') return this.endWith(exchange.tag, { kind: 'BAD', text: 'Given up' });
    this.plain(exchange.tag, line);
  }

  private plain(tag: string, line: string): void {
    const said = isBase64(line) ? readPlain(line) : null;
    if (!said) return this.endWith(tag, { kind: 'BAD', text: 'Invalid PLAIN response' });
    this.outputs.push(this.work(async (write) => this.finish(tag, await signIn(this.dialogue, said.user, said.password), write)));
  }

  private begin(written: WrittenCommand): void {
    const { tag, name } = written;
    this.dialogue.tag = tag;
    this.overhear?.('client', heard(written, commandNamed(name) !== undefined));
    const understood = understand(written, this.dialogue);
    if (understood.refused) return this.endWith(tag, understood.refused);
    const { command, asked } = understood;
    if (name === 'STARTTLS') return this.startTls(tag);
    if (name === 'AUTHENTICATE') return this.authenticate(tag, asked as SaslAsked);
    this.outputs.push(
      this.work(async (write) => {
        // Whoever only reads on need not wait for what is being marked as seen.
        if (name !== 'FETCH' && name !== 'UID FETCH') await this.dialogue.reads?.written();
        const before = this.dialogue.view;
        if (before && !(await before.update())) return this.folderGone(write);
        // What comes with the new ones must not be a surprise; before SELECT it would be taken for the other folder's.
        if (command.when === 'selected' && before) await write(before.exists());
        const ending = await command.run(this.dialogue, asked, write);
        if (this.dialogue.isEnded) return;
        if (ending.kind === 'OK' && name === 'IDLE') {
          this.exchange = { kind: 'idle', tag };
          await write('+ Waiting for news\r\n');
          // What came just before is told now, since nobody asks for it any more.
          await this.tellNews(write, true);
          return;
        }
        // What was selected just now is known as it is.
        if (this.dialogue.view && this.dialogue.view === before && !(await this.tellNews(write, command.mayExpunge))) return;
        await this.finish(tag, ending, write, name);
      }),
    );
  }

  private async finish(tag: string, ending: Ending, write: Write, name = ''): Promise<void> {
    if (ending.kind === 'BAD') this.faults += 1;
    await write(endingLine(tag, ending));
    if (name === 'LOGOUT') return this.close();
    if (name === 'COMPRESS' && ending.kind === 'OK') this.outputs.push({ kind: 'compress' });
    if (this.faults >= MOST_FAULTS) {
      await write('* BYE Too many unknown commands\r\n');
      this.close();
    }
  }

  /** Tells what has happened in the selected folder; false when it is gone, and the conversation with it. */
  private async tellNews(write: Write, mayExpunge: boolean): Promise<boolean> {
    const { view, enabled } = this.dialogue;
    if (!view) return true;
    this.isStale = false;
    if (!(await view.update())) {
      await this.folderGone(write);
      return false;
    }
    const news = view.news({
      mayExpunge,
      withModseq: hasCondstore(this.dialogue),
      asVanished: enabled.has('QRESYNC'),
      withUid: enabled.has('QRESYNC') || enabled.has('IMAP4REV2'),
    });
    if (news !== '') await write(news);
    // It has changed again meanwhile.
    return this.isStale && this.exchange?.kind === 'idle' ? this.tellNews(write, mayExpunge) : true;
  }

  /** Somebody else has removed the folder: sequence numbers mean nothing any more (RFC 2180 §3). */
  private async folderGone(write: Write): Promise<void> {
    await write('* BYE The selected folder was removed\r\n');
    this.close();
  }

  private startTls(tag: string): void {
    const { dialogue } = this;
    if (dialogue.isSecure) return this.endWith(tag, { kind: 'BAD', text: 'TLS is already on' });
    if (!dialogue.settings.tlsOffered) return this.endWith(tag, { kind: 'NO', text: 'TLS is not offered here' });
    this.say(`${tag} OK Begin TLS now\r\n`);
    this.reader.clear();
    this.isStartingTls = true;
    this.outputs.push({ kind: 'start-tls' });
  }

  private authenticate(tag: string, asked: SaslAsked): void {
    if (asked === null) return this.endWith(tag, { kind: 'NO', text: 'Only PLAIN is supported' });
    if (!this.dialogue.isSecure) {
      this.dialogue.doors.signInInClear(null);
      return this.endWith(tag, { kind: 'NO', code: 'PRIVACYREQUIRED', text: 'Begin TLS first (STARTTLS)' });
    }
    if (asked.initial !== null) return this.plain(tag, asked.initial);
    this.exchange = { kind: 'plain', tag };
    this.say('+ \r\n');
  }
}
