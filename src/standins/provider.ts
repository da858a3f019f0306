import { EventEmitter, once } from 'node:events';
import { addressKey, formatAddress } from '../core/address/mailbox-address.ts';
import { type Judgement, judge } from '../core/judgement/judge.ts';
import { subjectOf } from '../core/message/submission.ts';
import type { Lookup } from '../core/records/answers.ts';
import type { Reply } from '../core/smtp/replies.ts';
import type { Intent, SessionFacts } from '../core/smtp/server/intents.ts';
import type { Certificate } from '../net/certificate.ts';
import { Listener } from '../net/listener.ts';
import { type Decider, serveSmtp } from '../net/smtp-server.ts';

export type Temper = 'strict' | 'open' | 'slow';

/** A message as the provider has filed it. */
export interface FiledMessage {
  at: number;
  sender: string;
  recipient: string;
  subject: string;
  folder: 'Inbox' | 'Junk';
  judgement: Judgement;
  client: string;
  tls: boolean;
  content: Buffer;
}

const reply = (code: number, status: string, text: string): Reply => ({ code, status, text });
/** How slowly the slow one answers. */
const SLOW_MS = 150;

/** Another mail provider: takes mail for its domain, judges it by its own DNS look-ups, and keeps it to be looked at. */
export class StandInProvider {
  readonly filed: FiledMessage[] = [];
  private readonly events = new EventEmitter<{ filed: [FiledMessage] }>();
  private readonly seen = new Set<string>();
  private listener: Listener | null = null;

  constructor(
    readonly domain: string,
    readonly temper: Temper,
    private readonly lookup: Lookup,
    private readonly certificate: Certificate,
  ) {}

  /** Listens on a loopback port, behind the PROXY protocol. */
  listen(): Promise<number> {
    const { secureContext } = this.certificate;
    this.listener = new Listener(
      { address: '127.0.0.1', port: 0, proxy: true, implicitTls: false, tls: { secureContext }, mostPerAddress: () => 1000 },
      (connection) =>
        serveSmtp(
          connection,
          { hostName: `mx.${this.domain}`, service: 'inbound', maxMessageBytes: 32 * 1024 * 1024, tls: { secureContext } },
          new Reception(this, connection.clientAddress),
        ),
      () => {},
    );
    return this.listener.listen();
  }

  close(): void {
    this.listener?.stopAccepting();
    this.listener?.destroyAll();
  }

  /** Resolves with the next message that is filed. */
  async nextFiled(): Promise<FiledMessage> {
    const [message] = await once(this.events, 'filed');
    return message as FiledMessage;
  }

  /** The slow one refuses each pair of sender and recipient the first time. */
  isFirstTime(sender: string, recipient: string): boolean {
    const key = `${sender} ${recipient}`;
    const first = !this.seen.has(key);
    this.seen.add(key);
    return first;
  }

  judge(content: Buffer, facts: { client: string; helo: string; sender: string }): Promise<Judgement> {
    const { client: clientAddress, helo, sender } = facts;
    return judge({ clientAddress, helo, sender, content }, this.lookup, { receiver: `mx.${this.domain}`, now: Date.now(), draw: 0 });
  }

  file(message: FiledMessage): void {
    this.filed.push(message);
    this.events.emit('filed', message);
  }
}

/** One conversation with the provider. */
class Reception implements Decider {
  private sender = '';
  private recipients: string[] = [];

  constructor(
    private readonly provider: StandInProvider,
    private readonly client: string,
  ) {}

  async decide(intent: Intent, facts: SessionFacts): Promise<{ accepted: boolean; reply: Reply }> {
    const { domain, temper } = this.provider;
    if (temper === 'slow') await new Promise((resolve) => setTimeout(resolve, SLOW_MS));
    if (intent.kind === 'sender') {
      const { sender } = intent.envelope;
      this.sender = sender ? formatAddress(sender) : '';
      this.recipients = [];
      return { accepted: true, reply: reply(250, '2.1.0', 'Heard') };
    }
    if (intent.kind === 'recipient') {
      const recipient = addressKey(intent.recipient);
      if (intent.recipient.domain !== domain) return { accepted: false, reply: reply(550, '5.7.1', `Only mail for ${domain} here`) };
      if (recipient.startsWith('nobody@')) return { accepted: false, reply: reply(550, '5.1.1', `Nobody is called ${recipient}`) };
      if (temper === 'slow' && this.provider.isFirstTime(this.sender, recipient))
        return { accepted: false, reply: reply(451, '4.7.1', 'We do not know you yet; come again in a minute') };
      this.recipients.push(recipient);
      return { accepted: true, reply: reply(250, '2.1.5', 'Heard') };
    }
    if (intent.kind === 'message') return this.take(intent.content, facts);
    return { accepted: false, reply: reply(503, '5.5.1', 'Nobody signs in here') };
  }

  private async take(content: Buffer, facts: SessionFacts): Promise<{ accepted: boolean; reply: Reply }> {
    const judgement = await this.provider.judge(content, { client: this.client, helo: facts.helo, sender: this.sender });
    const strict = this.provider.temper === 'strict';
    if (strict && judgement.dmarc.result === 'fail' && judgement.dmarc.policy === 'reject')
      return {
        accepted: false,
        reply: reply(550, '5.7.26', `Refused by the DMARC policy of the author's domain: ${judgement.dmarc.reason}`),
      };
    const doubtful =
      judgement.dmarc.result !== 'pass' && (judgement.spf.result !== 'pass' || !judgement.dkim.some((one) => one.result === 'pass'));
    for (const recipient of this.recipients)
      this.provider.file({
        at: Date.now(),
        sender: this.sender,
        recipient,
        subject: subjectOf(content),
        folder: strict && doubtful ? 'Junk' : 'Inbox',
        judgement,
        client: this.client,
        tls: facts.secure,
        content,
      });
    return { accepted: true, reply: reply(250, '2.0.0', 'Kept') };
  }

  abandon(): void {
    this.recipients = [];
  }
  closed(): void {}
  note(): void {}
  fault(error: unknown): void {
    process.stderr.write(`stand-in ${this.provider.domain}: ${String(error)}\n`);
  }
}
