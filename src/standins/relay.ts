import { formatAddress } from '../core/address/mailbox-address.ts';
import type { Reply } from '../core/smtp/replies.ts';
import type { Intent } from '../core/smtp/server/intents.ts';
import type { Certificate } from '../net/certificate.ts';
import { Listener } from '../net/listener.ts';
import { type Decider, serveSmtp } from '../net/smtp-server.ts';

const reply = (code: number, status: string, text: string): Reply => ({ code, status, text });

/** Somebody else's smart host: wants TLS and a sign-in, takes mail for anywhere, and only counts it. */
export class StandInRelay {
  taken = 0;
  private listener: Listener | null = null;

  constructor(
    private readonly name: string,
    private readonly account: { user: string; password: string },
    private readonly certificate: Certificate,
  ) {}

  listen(): Promise<number> {
    const { secureContext } = this.certificate;
    this.listener = new Listener(
      { address: '127.0.0.1', port: 0, proxy: true, implicitTls: false, tls: { secureContext }, mostPerAddress: () => 1000 },
      (connection) =>
        serveSmtp(
          connection,
          { hostName: this.name, service: 'submission', maxMessageBytes: 32 * 1024 * 1024, tls: { secureContext } },
          this.reception(),
        ),
      () => {},
    );
    return this.listener.listen();
  }

  close(): void {
    this.listener?.stopAccepting();
    this.listener?.destroyAll();
  }

  private reception(): Decider {
    return {
      decide: async (intent: Intent) => {
        if (intent.kind === 'sign-in') {
          const isRight = intent.user === this.account.user && intent.password === this.account.password;
          return { accepted: isRight, reply: isRight ? reply(235, '2.7.0', 'Welcome') : reply(535, '5.7.8', 'Nobody with that password') };
        }
        if (intent.kind === 'message') this.taken += 1;
        const text = intent.kind === 'recipient' ? `For ${formatAddress(intent.recipient)}` : 'Taken';
        return { accepted: true, reply: reply(250, '2.0.0', text) };
      },
      abandon: () => {},
      closed: () => {},
      fault: (error) => {
        process.stderr.write(`stand-in ${this.name}: ${String(error)}\n`);
      },
    };
  }
}
