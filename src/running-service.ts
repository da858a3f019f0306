import { EventEmitter } from 'node:events';
import { readFileSync } from 'node:fs';
import type { Server as HttpServer } from 'node:http';
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
import { ServedCertificate } from './net/certificate.ts';
import { diskSpaceOf } from './net/disk-space.ts';
import { readGreeting } from './net/greeting.ts';
import { type Connection, ListenError, Listener } from './net/listener.ts';
import { openLogOutput } from './net/log-output.ts';
import { servePop3 } from './net/pop3-server.ts';
import { SmtpClient } from './net/smtp-client.ts';
import { type OpenConversation, serveSmtp } from './net/smtp-server.ts';
import { openWebServer } from './net/web-server.ts';
import { PROJECT, VERSION } from './project.ts';
import { prepareOperator } from './service/accounts.ts';
import { Admission } from './service/admit.ts';
import { Archive } from './service/archive.ts';
import { CheckSchedule } from './service/check-runs.ts';
import type { Config } from './service/config.ts';
import type { ServiceContext, ServiceSignals } from './service/context.ts';
import { Conversation } from './service/conversation.ts';
import { Deliverer } from './service/deliver.ts';
import { connectionShares, descriptorLimit } from './service/descriptor-shares.ts';
import { followRows } from './service/follow-rows.ts';
import { Holds } from './service/holds.ts';
import { KeptGuesses } from './service/kept-guesses.ts';
import { LimitKeeper } from './service/limits.ts';
import { LoopWatch } from './service/loop-watch.ts';
import { Metrics } from './service/metrics.ts';
import { Notices } from './service/notices.ts';
import { PasswordChecks } from './service/password-checks.ts';
import { faultText } from './service/problem.ts';
import { MailboxReader } from './service/read-mailbox.ts';
import { ReportLimit } from './service/report-limit.ts';
import { postmasterIsReached } from './service/routing.ts';
import { ServiceClock } from './service/service-clock.ts';
import { Sessions } from './service/sessions.ts';
import { SignInGuard } from './service/sign-in-guard.ts';
import { SigningKeys } from './service/signing-keys.ts';
import { type DiskSpace, Space } from './service/space.ts';
import { Brakes, letGoOfEndedStops } from './service/stopping.ts';
import { Stops } from './service/stops.ts';
import { UnusualWatch } from './service/unusual.ts';
import { SERVICE_TIME, Upkeep } from './service/upkeep.ts';
import { Database } from './store/database.ts';
import { KeyFile } from './store/key-file.ts';
import { newestCharge } from './store/ledger.ts';
import { MessageFiles } from './store/message-files.ts';
import { MessageTexts } from './store/message-texts.ts';
import { isNoSpace } from './store/no-space.ts';
import { startStep } from './store/open-data.ts';
import { takeRecoveryRequest } from './store/recovery-file.ts';
import { readSetting } from './store/settings.ts';

export interface RunningService {
  context: ServiceContext;
  /** The port of each listener, in the order of the configuration. */
  ports: number[];
  /** The first sign-in, as long as nobody has used it. */
  firstSignIn: { name: string; code: string } | null;
  /** Begins the scheduled checks, where they were held back. */
  startChecks(): void;
  /** Reads again what may change on disk while the service runs: the certificate. */
  reload(): Promise<void>;
  stop(): Promise<void>;
}

const MOST_PER_ADDRESS = 200;
/** Octets of messages that come in, over all conversations; who needs more is told to come again. */
const MOST_UNDER_WAY = 160 * 1024 * 1024;
/** Octets of messages that are judged and stored at the same time. */
const MOST_TAKEN = 48 * 1024 * 1024;
/** What is under way gets this long; a stop takes at most ten seconds. */
const GRACE_MS = 7000;

const CONSOLE_FOLDER = join(PROJECT, 'dist/console');

export interface ServiceOptions {
  logTo?: pino.DestinationStream;
  holdChecks?: boolean;
  /** How much room the disk has; asked of the system by default. */
  diskSpace?: () => Promise<DiskSpace>;
}

/** A part of the service that runs from its start to its stop. */
interface Part {
  start?(): void | Promise<void>;
  stop?(): void | Promise<void>;
}

/** Opens the data directory and the ports, and runs until `stop`. Throws StoreError, CertificateError or ListenError, each one sentence. */
export async function startService(config: Config, options: ServiceOptions = {}): Promise<RunningService> {
  const log = pino(
    { level: config.log.level, base: null, redact: ['password', 'token', 'authorization'] },
    options.logTo ?? openLogOutput(process.stderr.fd),
  );
  const db = Database.open(config.data);
  const opened: { stopAccepting(): void }[] = [];
  try {
    const clock = new ServiceClock(Math.max(newestCharge(db), readSetting<number>(db, SERVICE_TIME) ?? 0));
    const certificate = new ServedCertificate(config.tls ?? null, config.data, config.host.name);
    await certificate.load();
    const health = new ServerHealth(() => performance.now(), config.dns.timeout_ms);
    const resolver = new Resolver({ servers: config.dns.resolvers, timeoutMs: config.dns.timeout_ms, tries: 2, now: clock.steady, health });
    const files = new MessageFiles(config.data);
    const keyFile = KeyFile.open(config.secrets.key_file, KeyFile.isNeededBy(db));
    await keyFile.sealAll(db);
    const client = new SmtpClient({
      hostName: config.host.name,
      ownAddresses: config.host.addresses,
      dial: config.dial.map(({ to, through, proxy }) => ({ ...to, through, proxy })),
      trustedRoots:
        config.mail.trusted_roots === undefined
          ? null
          : startStep(`The file ${config.mail.trusted_roots}`, () => readFileSync(config.mail.trusted_roots ?? '', 'utf8')),
    });
    const underWay = new OctetBudget(MOST_UNDER_WAY, () => performance.now());
    const loop = new LoopWatch(clock.now);
    const space = new Space(options.diskSpace ?? (() => diskSpaceOf(config.data)), log);
    db.watch = {
      during: (what, work) => loop.during(what, work),
      failed: (error) => isNoSpace(error) && space.wasFull(),
      written: () => space.wasWritten(),
    };
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
          steady: clock.steady,
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
      metrics: new Metrics(db, { resolvers: () => resolver.states(), underWay: () => underWay.used, loop, space }),
      reports: new ReportLimit(),
      guards: { mailboxes: new SignInGuard(), console: new SignInGuard() },
      recovery: { take: () => takeRecoveryRequest(config.data) },
      // One core is left for mail.
      passwords: new PasswordChecks(Math.max(1, availableParallelism() - 1)),
      handingOver: new Set(),
      openMailboxes: new Set(),
      sessions: new Sessions(),
      loop,
      space,
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
    const schedule = new CheckSchedule(context);
    const upkeep = new Upkeep(context, files);
    connectParts(context);
    await space.start();
    const guesses = new KeptGuesses(context);
    guesses.start();
    const conversations = new Set<OpenConversation>();
    const listeners: Listener[] = [];
    const webServers: HttpServer[] = [];
    const ports: number[] = [];
    const startedAt = clock.now();
    const shares = connectionShares(
      config.listener.map((one) => one.service),
      descriptorLimit(),
    );

    for (const [at, settings] of config.listener.entries()) {
      const { service, address, port, proxy } = settings;
      const mostOpen = shares[at] ?? 0;
      if (service === 'web') {
        const handler = buildApp(context, {
          consoleFolder: CONSOLE_FOLDER,
          tls: settings.tls,
          startedAt,
          metrics: context.metrics.registry,
        }).callback();
        const server = openWebServer(handler, {
          certificate: settings.tls ? certificate : null,
          mostOpen,
          onFault: (error) => log.error({ fault: String(error) }, 'web server'),
        });
        webServers.push(server);
        opened.push({ stopAccepting: () => server.close() });
        ports.push(await listenWeb(server, address, port));
        continue;
      }
      const gauge = context.metrics.connections;
      const take = (connection: Connection): void => {
        gauge.inc({ service });
        const open = converse(service, connection, context, certificate.secureContext, config.mail.greet_after_ms);
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
          secureContext: () => certificate.secureContext,
          mostPerAddress: MOST_PER_ADDRESS,
          mostOpen,
        },
        take,
        (clientAddress, reason) => log.info({ client: clientAddress, service, reason }, 'connection dropped'),
      );
      listeners.push(listener);
      opened.push(listener);
      ports.push(await listener.listen());
    }

    const parts: Part[] = [
      loop,
      { stop: () => space.stop() },
      guesses,
      { stop: () => context.texts.stop() },
      context.notices,
      new Archive(context, {
        keepDays: config.journal.keep_days,
        mostEntries: config.journal.most_entries,
        ledgerDays: config.ledger.keep_days,
      }),
      { start: () => admission.look(), stop: () => admission.stop() },
      { start: () => deliverer.wake(), stop: () => deliverer.stop() },
      { stop: () => schedule.stop() },
      upkeep,
    ];
    for (const part of parts) if (part.start && part !== guesses) await part.start();
    letGoOfEndedStops(context).catch((error: unknown) => log.error({ fault: faultText(error) }, 'what was held for ended stops still is'));
    context.texts.settle().catch((error: unknown) => log.error({ fault: String(error) }, 'message texts could not be settled'));
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
    if (!postmasterIsReached(context))
      log.warn(
        { postmaster: config.host.postmaster },
        'mail to postmaster and abuse reaches nobody: add that mailbox, or name another one as host.postmaster',
      );
    if (clock.ahead > 0)
      log.warn(
        { minutes: Math.round(clock.ahead / 60_000) },
        'the database has seen later times than the clock of this machine shows; see: tenedor clock show',
      );

    const stop = async (): Promise<void> => {
      for (const one of listeners) one.stopAccepting();
      for (const server of webServers) server.close();
      for (const one of conversations) one.stop();
      const grace = new Promise<void>((resolve) => setTimeout(resolve, GRACE_MS).unref());
      const settled = async (): Promise<void> => {
        await Promise.all(parts.map((part) => part.stop?.()).reverse());
        while (conversations.size > 0) await new Promise((resolve) => setTimeout(resolve, 20));
      };
      const failed = (error: unknown): void => log.error({ fault: faultText(error) }, 'a part of the service did not stop cleanly');
      await Promise.race([settled().catch(failed), grace]);
      for (const one of listeners) one.destroyAll();
      for (const server of webServers) server.closeAllConnections();
      client.close();
      db.close();
      log.info({}, 'service has stopped');
    };
    const reload = async (): Promise<void> => {
      await certificate.reload((reason) => log.error({ reason }, 'the certificate could not be read again; the one before stays in use'));
      log.info({}, 'read again what may change while the service runs');
    };
    return { context, ports, firstSignIn, startChecks, stop, reload };
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
  followRows(context);
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
      addresses: host.addresses,
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
