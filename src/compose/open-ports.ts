import type { Server as HttpServer, RequestListener } from 'node:http';
import { join } from 'node:path';
import { type AccessPortName, isAccessPort } from '../access/access-house.ts';
import { buildApp } from '../api/app.ts';
import type { Followed } from '../core/followed.ts';
import type { ServedCertificates } from '../net/certificate.ts';
import { answerChallenges } from '../net/challenge-server.ts';
import { type Connection, ListenError, Listener } from '../net/listener.ts';
import { type OpenConversation, serveSmtp } from '../net/smtp-server.ts';
import type { WebConnections } from '../net/web-connections.ts';
import { openWebServer } from '../net/web-server.ts';
import { PROJECT } from '../project.ts';
import { noteTlsFault } from '../service/access/sign-in-troubles.ts';
import type { Config } from '../service/app/config.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { connectionShares, descriptorLimit } from '../service/base/descriptor-shares.ts';
import { newConversationId } from '../service/base/secrets.ts';
import type { TlsPort } from '../service/certificates/doors.ts';
import { Conversation } from '../service/reception/conversation.ts';
import type { AccessSide } from './access-side.ts';

const CONSOLE_FOLDER = join(PROJECT, 'dist/console');

/** The ports of the service, and the conversations on them. */
export class OpenPorts {
  private readonly conversations = new Set<OpenConversation>();
  private readonly listeners: Listener[] = [];
  private readonly webServers: HttpServer[] = [];
  /** The port of each listener, in the order of the configuration. */
  readonly numbers: number[] = [];
  private readonly startedAt: number;

  constructor(
    private readonly config: Config,
    private readonly context: ServiceContext,
    private readonly certificates: ServedCertificates,
    private readonly access: AccessSide,
    private readonly followed: Followed,
  ) {
    this.startedAt = context.clock.now();
  }

  /** Opens them one after the other. Throws ListenError, one sentence. */
  async open(): Promise<void> {
    const { config } = this;
    const shares = connectionShares(
      config.listener.map((one) => one.service),
      descriptorLimit(),
    );
    for (const [at, settings] of config.listener.entries()) {
      const mostOpen = shares[at] ?? 0;
      this.numbers.push(
        settings.service === 'web' || settings.service === 'challenge'
          ? await this.openWeb(settings, mostOpen)
          : isAccessPort(settings.service)
            ? await this.access.listen({ ...settings, service: settings.service, mostPerAddress: config.connections.per_address, mostOpen })
            : await this.openMail(settings, settings.service, mostOpen),
      );
    }
  }

  /** No new connections; conversations are told to end. */
  stopAccepting(): void {
    this.access.stopAccepting();
    for (const one of this.listeners) one.stopAccepting();
    for (const server of this.webServers) server.close();
    for (const one of this.conversations) one.stop();
  }

  /** When the last conversation has ended. */
  async quiet(): Promise<void> {
    while (this.conversations.size > 0) await new Promise((resolve) => setTimeout(resolve, 20));
    await this.access.quiet();
  }

  destroyAll(): void {
    this.access.destroyAll();
    for (const one of this.listeners) one.destroyAll();
    for (const server of this.webServers) server.closeAllConnections();
  }

  /** Those that speak TLS, at once or when they are asked to. */
  get tlsPorts(): TlsPort[] {
    return this.config.listener.flatMap(({ service, address, proxy, tls }, at) =>
      service === 'challenge' || (service === 'web' && !tls) ? [] : [{ service, address, proxy, port: this.numbers[at] ?? 0 }],
    );
  }

  private openWeb({ service, address, port, tls, names }: Config['listener'][number], mostOpen: number): Promise<number> {
    const { context, certificates } = this;
    const { log } = context;
    const makeHandler = (connections: WebConnections): RequestListener =>
      service === 'challenge'
        ? answerChallenges(context.challenges)
        : buildApp(context, {
            consoleFolder: CONSOLE_FOLDER,
            tls,
            startedAt: this.startedAt,
            metrics: context.metrics.registry,
            names: [context.host.name, ...names],
            signedIn: (socket) => connections.know(socket),
          }).callback();
    const server = openWebServer(makeHandler, {
      certificates: tls ? certificates : null,
      mostOpen,
      onFault: (error) => log.error({ fault: String(error) }, 'web server'),
    });
    this.webServers.push(server);
    return listenWeb(server, address, port);
  }

  private openMail({ address, port, proxy }: Config['listener'][number], service: MailService, mostOpen: number): Promise<number> {
    const { context, certificates, conversations } = this;
    const { log } = context;
    const gauge = context.metrics.connections;
    const take = (connection: Connection): void => {
      gauge.inc({ service });
      const open = this.converse(service, connection);
      conversations.add(open);
      connection.socket.on('close', () => {
        gauge.dec({ service });
        conversations.delete(open);
      });
    };
    const listener = new Listener(
      {
        address,
        port,
        proxy,
        implicitTls: service === 'submissions',
        tls: certificates,
        // It may be another number from one connection to the next.
        mostPerAddress: () => this.config.connections.per_address,
        mostOpen,
      },
      take,
      (clientAddress, reason) => {
        log.info({ client: clientAddress, service, reason }, 'connection dropped');
        if (service !== 'smtp') noteTlsFault(context, 'submission', clientAddress, reason);
      },
    );
    this.listeners.push(listener);
    return listener.listen();
  }

  private converse(service: MailService, connection: Connection): OpenConversation {
    const { context, config } = this;
    const { host } = context;
    const id = newConversationId();
    const overhear = this.followed.begin('smtp', [connection.clientAddress], context.log, id);
    const kind = service === 'smtp' ? 'inbound' : 'submission';
    const conversation = new Conversation(context, kind, connection.clientAddress, id);
    return serveSmtp(
      connection,
      {
        hostName: host.name,
        addresses: host.addresses,
        service: kind,
        maxMessageBytes: host.maxMessageBytes,
        tls: this.certificates,
        overhear,
        trusted: conversation.trusted,
        budget: context.underWay,
        // Who brings mail and can't wait for the greeting is no mail server; people at mail clients need not wait.
        greetAfterMs: kind === 'inbound' && !conversation.isKnown ? config.mail.greet_after_ms : 0,
      },
      conversation,
    );
  }
}

type MailService = Exclude<Config['listener'][number]['service'], 'web' | 'challenge' | AccessPortName>;

function listenWeb(server: HttpServer, address: string, port: number): Promise<number> {
  return new Promise((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) =>
      reject(
        new ListenError(
          `Can’t listen on ${address} port ${port}: ${error.code === 'EADDRINUSE' ? 'another program uses that port' : error.message}.`,
        ),
      ),
    );
    server.listen(port, address, () => resolve((server.address() as { port: number }).port));
  });
}
