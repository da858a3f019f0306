import { EventEmitter } from 'node:events';
import { readFileSync } from 'node:fs';
import { createServer as createHttpServer, type Server as HttpServer } from 'node:http';
import { createServer as createHttpsServer } from 'node:https';
import { availableParallelism, networkInterfaces } from 'node:os';
import { join } from 'node:path';
import type { SecureContext } from 'node:tls';
import pino from 'pino';
import { buildApp } from './api/app.ts';
import { WeightGate } from './core/gate.ts';
import { sameAddress } from './core/records/reverse-name.ts';
import { CLIENT_SERVICES, type ClientService } from './core/records/sheet.ts';
import { OctetBudget } from './core/smtp/octet-budget.ts';
import { openDns } from './dns/access.ts';
import { Resolver } from './dns/resolver.ts';
import { ServerHealth } from './dns/server-health.ts';
import { callOut } from './net/call-out.ts';
import { loadCertificate } from './net/certificate.ts';
import { readGreeting } from './net/greeting.ts';
import { type Connection, ListenError, Listener } from './net/listener.ts';
import { servePop3 } from './net/pop3-server.ts';
import { SmtpClient } from './net/smtp-client.ts';
import { type OpenConversation, serveSmtp } from './net/smtp-server.ts';
import { PROJECT, VERSION } from './project.ts';
import { prepareOperator } from './service/accounts.ts';
import { Admission } from './service/admit.ts';
import { Archive } from './service/archive.ts';
import { CheckSchedule } from './service/check-runs.ts';
import type { Config } from './service/config.ts';
import type { Clock, ServiceContext, ServiceSignals } from './service/context.ts';
import { Conversation } from './service/conversation.ts';
import { Deliverer } from './service/deliver.ts';
import { Holds } from './service/holds.ts';
import { LimitKeeper } from './service/limits.ts';
import { Metrics } from './service/metrics.ts';
import { Notices } from './service/notices.ts';
import { PasswordChecks } from './service/password-checks.ts';
import { faultText } from './service/problem.ts';
import { MailboxReader } from './service/read-mailbox.ts';
import { SignInGuard } from './service/sign-in-guard.ts';
import { SigningKeys } from './service/signing-keys.ts';
import { Brakes } from './service/stopping.ts';
import { Stops } from './service/stops.ts';
import { UnusualWatch } from './service/unusual.ts';
import { Database } from './store/database.ts';
import { KeyFile } from './store/key-file.ts';
import { newestCharge } from './store/ledger.ts';
import { MessageFiles } from './store/message-files.ts';
import { MessageTexts } from './store/message-texts.ts';
import { fileInUse, removeOldJunk } from './store/messages.ts';

export interface RunningService {
  context: ServiceContext;
  /** The port of each listener, in the order of the configuration. */
  ports: number[];
  /** The first sign-in, as long as nobody has used it. */
  firstSignIn: { name: string; code: string } | null;
  /** Begins the scheduled checks, where they were held back. */
  startChecks(): void;
  stop(): Promise<void>;
}

const MOST_PER_ADDRESS = 200;
/** Octets of messages that come in, over all conversations; who needs more is told to come again. */
const MOST_UNDER_WAY = 160 * 1024 * 1024;
/** Octets of messages that are judged and stored at the same time. */
const MOST_TAKEN = 48 * 1024 * 1024;
const TIDY_EVERY_MS = 10 * 60_000;
/** What is under way gets this long; a stop takes at most ten seconds. */
const GRACE_MS = 7000;

/** What was filed as junk is kept for thirty days. */
const JUNK_KEPT_MS = 30 * 24 * 3600_000;

const CONSOLE_FOLDER = join(PROJECT, 'dist/console');

/** Opens the data directory and the ports, and runs until `stop`. Throws StoreError, CertificateError or ListenError, each one sentence. */
export async function startService(
  config: Config,
  options: { logTo?: NodeJS.WritableStream; holdChecks?: boolean } = {},
): Promise<RunningService> {
  const log = pino(
    { level: config.log.level, base: null, redact: ['password', 'token', 'authorization'] },
    options.logTo ?? process.stderr,
  );
  const db = Database.open(config.data);
  const opened: { stopAccepting(): void }[] = [];
  try {
    const { secureContext, cert, key } = await loadCertificate(config.tls ?? null, config.data, config.host.name);
    const clock = steadyClock(newestCharge(db));
    const health = new ServerHealth(() => performance.now(), config.dns.timeout_ms);
    const resolver = new Resolver({ servers: config.dns.resolvers, timeoutMs: config.dns.timeout_ms, tries: 2, now: clock.now, health });
    const files = new MessageFiles(config.data);
    const keyFile = KeyFile.open(config.secrets.key_file);
    await keyFile.sealAll(db);
    const client = new SmtpClient({
      hostName: config.host.name,
      ownAddresses: config.host.addresses,
      dial: config.dial.map(({ to, through, proxy }) => ({ ...to, through, proxy })),
      trustedRoots: config.mail.trusted_roots === undefined ? null : readFileSync(config.mail.trusted_roots, 'utf8'),
    });
    const underWay = new OctetBudget(MOST_UNDER_WAY, () => performance.now());
    const context: ServiceContext = {
      db,
      texts: new MessageTexts(db, files, (error) => log.error({ fault: String(error) }, 'message texts could not be settled')),
      clock,
      host: {
        ...config.host,
        outletIncludes: config.host.outlet_includes,
        services: clientServices(config),
        blockLists: config.dns.block_lists,
        refuseListed: config.dns.refuse_listed,
        maxMessageBytes: Math.floor(config.mail.max_message_mib * 1024 * 1024),
      },
      lookup: resolver.lookup,
      dns: {
        ...openDns({
          resolvers: config.dns.resolvers,
          timeoutMs: config.dns.timeout_ms,
          dial: config.dial,
          now: clock.now,
          health,
        }),
        resolvers: () => resolver.states(),
        forget: () => resolver.forget(),
        greeting: () => readGreeting(dialled(config, { address: config.host.addresses[0] ?? '', port: 25 })),
        routes: publicRoutes,
      },
      log,
      limits: new LimitKeeper(db, clock, config.host.time_zone),
      holds: new Holds(db),
      stops: new Stops(db),
      brakes: new Brakes(() => context),
      notices: new Notices(() => context),
      get unusual(): UnusualWatch {
        return unusual;
      },
      keyFile,
      returnKey: keyFile.derived('return addresses of forwarded mail'),
      send: client.send,
      walk: (host) => client.walk(host),
      callOut,
      keys: new SigningKeys(db, keyFile),
      // One listener a page that is open.
      signals: new EventEmitter<ServiceSignals>().setMaxListeners(0),
      metrics: new Metrics(db, { resolvers: () => resolver.states(), underWay: () => underWay.used }),
      guards: { mailboxes: new SignInGuard(), console: new SignInGuard() },
      // One core is left for mail.
      passwords: new PasswordChecks(Math.max(1, availableParallelism() - 1)),
      openMailboxes: new Set(),
      underWay,
      taking: new WeightGate(MOST_TAKEN),
      checkRuns: { latest: null },
      checkEveryMs: config.checks.every_minutes * 60_000,
      random: Math.random,
      version: VERSION,
    };
    const unusual = new UnusualWatch(context);
    const deliverer = new Deliverer(context, Math.random);
    const admission = new Admission(context);
    const archive = new Archive(context, {
      keepDays: config.journal.keep_days,
      mostEntries: config.journal.most_entries,
      ledgerDays: config.ledger.keep_days,
    });
    connectParts(context);
    const conversations = new Set<OpenConversation>();
    const listeners: Listener[] = [];
    const webServers: HttpServer[] = [];
    const ports: number[] = [];
    const startedAt = clock.now();

    for (const settings of config.listener) {
      const { service, address, port, proxy } = settings;
      if (service === 'web') {
        const handler = buildApp(context, {
          consoleFolder: CONSOLE_FOLDER,
          tls: settings.tls,
          startedAt,
          metrics: context.metrics.registry,
        }).callback();
        const server = settings.tls ? createHttpsServer({ cert, key, minVersion: 'TLSv1.2' }, handler) : createHttpServer(handler);
        webServers.push(server);
        opened.push({ stopAccepting: () => server.close() });
        ports.push(await listenWeb(server, address, port));
        continue;
      }
      const gauge = context.metrics.connections;
      const take = (connection: Connection): void => {
        gauge.inc({ service });
        const open = converse(service, connection, context, secureContext, config.mail.greet_after_ms);
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
          implicitTls: service === 'submissions' || service === 'pop3s',
          secureContext,
          mostPerAddress: MOST_PER_ADDRESS,
        },
        take,
        (clientAddress, reason) => log.info({ client: clientAddress, service, reason }, 'connection dropped'),
      );
      listeners.push(listener);
      opened.push(listener);
      ports.push(await listener.listen());
    }

    const tidy = (): void => {
      context.limits.tidy();
      unusual.tidy();
      db.commit(() => removeOldJunk(db, clock.now() - JUNK_KEPT_MS)).catch((error: unknown) =>
        log.error({ fault: String(error) }, 'old junk could not be taken away'),
      );
      const removed = files.sweep((name) => fileInUse(db, name));
      if (removed > 0) log.info({ removed }, 'message files that nothing refers to were removed');
    };
    tidy();
    const timer = setInterval(tidy, TIDY_EVERY_MS);
    timer.unref();
    context.texts.settle().catch((error: unknown) => log.error({ fault: String(error) }, 'message texts could not be settled'));
    deliverer.wake();
    admission.look();
    context.notices.start();
    archive.start();
    const schedule = new CheckSchedule(context);
    const startChecks = (): void => {
      if (context.checkEveryMs > 0) schedule.start();
    };
    if (!options.holdChecks) startChecks();
    const firstSignIn = await prepareOperator(context);
    log.info(
      {
        host: config.host.name,
        version: VERSION,
        listeners: config.listener.map((one, at) => `${one.service} ${one.address}:${ports[at]}`),
      },
      'service is up',
    );

    const stop = async (): Promise<void> => {
      clearInterval(timer);
      for (const one of [...listeners]) one.stopAccepting();
      for (const server of webServers) server.close();
      for (const one of conversations) one.stop();
      const grace = new Promise<void>((resolve) => setTimeout(resolve, GRACE_MS).unref());
      const settled = async (): Promise<void> => {
        await Promise.all([
          deliverer.stop(),
          admission.stop(),
          context.notices.stop(),
          archive.stop(),
          context.texts.stop(),
          schedule.stop(),
        ]);
        while (conversations.size > 0) await new Promise((resolve) => setTimeout(resolve, 20));
      };
      await Promise.race([settled(), grace]);
      for (const one of listeners) one.destroyAll();
      for (const server of webServers) server.closeAllConnections();
      client.close();
      db.close();
      log.info({}, 'service has stopped');
    };
    return { context, ports, firstSignIn, startChecks, stop };
  } catch (error) {
    for (const one of opened) one.stopAccepting();
    db.close();
    throw error;
  }
}

/** Ties the parts that watch mail to what they watch. */
function connectParts(context: ServiceContext): void {
  const { limits, notices, brakes, unusual, signals, log } = context;
  const failed = (error: unknown): void => log.error({ fault: faultText(error) }, 'what was noticed could not be written down');
  context.db.onCommit = () => signals.emit('journal');
  limits.onReached = (reached) => {
    notices.reached(reached).catch(failed);
  };
  signals.on('ended', (sends) => {
    brakes.note(sends).catch(failed);
  });
  signals.on('charged', (payer, sends) => {
    unusual.note(payer, sends).catch(failed);
  });
}

/** What mail clients can be told to connect to: what this service listens for. */
function clientServices(config: Config): ClientService[] {
  const offered = new Set<string>(config.listener.map((one) => one.service));
  return (Object.keys(CLIENT_SERVICES) as ClientService[]).filter((service) => offered.has(service));
}

/** Where the dial map leads an address. */
function dialled(config: Config, server: { address: string; port: number }): { address: string; port: number; proxy: boolean } {
  const entry = config.dial.find(({ to }) => to.port === server.port && sameAddress(to.address, server.address));
  return entry ? { ...entry.through, proxy: entry.proxy } : { ...server, proxy: false };
}

/** Global IPv6 addresses of this machine (RFC 4291 §2.4): mail may leave by any of them. */
function publicRoutes(): string[] {
  const addresses = Object.values(networkInterfaces()).flatMap((all) => all ?? []);
  return addresses.filter((one) => one.family === 'IPv6' && !one.internal && /^[23]/.test(one.address)).map((one) => one.address);
}

function converse(
  service: Exclude<Config['listener'][number]['service'], 'web'>,
  connection: Connection,
  context: ServiceContext,
  secureContext: SecureContext,
  greetAfterMs: number,
): OpenConversation {
  const { host } = context;
  if (service === 'pop3' || service === 'pop3s')
    return servePop3(connection, { hostName: host.name, secureContext }, new MailboxReader(context, connection.clientAddress));
  const kind = service === 'smtp' ? 'inbound' : 'submission';
  const conversation = new Conversation(context, kind, connection.clientAddress);
  return serveSmtp(
    connection,
    {
      hostName: host.name,
      service: kind,
      maxMessageBytes: host.maxMessageBytes,
      secureContext,
      trusted: conversation.trusted,
      budget: context.underWay,
      // Who brings mail and can't wait for the greeting is no mail server; people at mail clients need not wait.
      greetAfterMs: kind === 'inbound' && !conversation.isKnown ? greetAfterMs : 0,
    },
    conversation,
  );
}

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

/** Wall time, and ledger time: that never stands before the newest charge, and runs with the machine's steady clock. */
function steadyClock(newest: number): Clock {
  const start = Math.max(Date.now(), newest);
  const begun = performance.now();
  return { now: () => Date.now(), steady: () => start + Math.floor(performance.now() - begun) };
}
