import { EventEmitter } from 'node:events';
import { existsSync, readFileSync } from 'node:fs';
import { availableParallelism } from 'node:os';
import { join } from 'node:path';
import { BoundedMap } from '../core/bounded-map.ts';
import { Followed } from '../core/followed.ts';
import { WeightGate } from '../core/gate.ts';
import { OctetBudget } from '../core/smtp/octet-budget.ts';
import { readChangelog } from '../core/updates/changelog.ts';
import { MOST_AT_ONCE, openDns } from '../dns/access.ts';
import { CheckThreads } from '../dns/check-threads.ts';
import { Resolver } from '../dns/resolver.ts';
import { ServerHealth } from '../dns/server-health.ts';
import { askOut, callOut } from '../net/call-out.ts';
import { diskSpaceOf } from '../net/disk-space.ts';
import { readGreeting } from '../net/greeting.ts';
import { probeServer } from '../net/probe-server.ts';
import { rehearsalLine } from '../net/rehearsal-line.ts';
import { SmtpClient } from '../net/smtp-client.ts';
import { PROJECT, VERSION } from '../project.ts';
import { ReportLimit } from '../service/acceptance/report-limit.ts';
import { Passes } from '../service/access/passes.ts';
import { PasswordChecks } from '../service/access/password-checks.ts';
import { Sessions } from '../service/access/sessions.ts';
import { SignInGuard } from '../service/access/sign-in-guard.ts';
import { SignInHistory } from '../service/access/sign-in-history.ts';
import { SignInTroubles } from '../service/access/sign-in-troubles.ts';
import type { Config } from '../service/app/config.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { followRows } from '../service/app/follow-rows.ts';
import { BackupKeeper } from '../service/backups/backup-keeper.ts';
import { GivenHashes } from '../service/base/given-hashes.ts';
import { LongRuns } from '../service/base/long-runs.ts';
import { LoopWatch } from '../service/base/loop-watch.ts';
import { Metrics } from '../service/base/metrics.ts';
import type { Log, ServiceSignals } from '../service/base/ports.ts';
import { faultText } from '../service/base/problem.ts';
import { SERVICE_TIME, ServiceClock } from '../service/base/service-clock.ts';
import { type DiskSpace, Space } from '../service/base/space.ts';
import { mailServerOf } from '../service/certificates/mail-server.ts';
import { isRefused, NOTHING_LOADED } from '../service/directory/lists/load-result.ts';
import { SigningKeys } from '../service/directory/signing-keys.ts';
import { Brakes } from '../service/limits/brakes.ts';
import { Holds } from '../service/limits/holds.ts';
import { LimitKeeper } from '../service/limits/limit-keeper.ts';
import { Stops } from '../service/limits/stops-in-force.ts';
import { UnusualWatch } from '../service/limits/unusual.ts';
import { AccessDesk } from '../service/mailbox/access-desk.ts';
import { Notices } from '../service/notices/notices.ts';
import { PrimaryQuestions } from '../service/reception/primary-questions.ts';
import { WitnessDesk } from '../service/rehearsal/witness-desk.ts';
import { TransferKeeper } from '../service/transfers/transfer-keeper.ts';
import { BackupThread } from '../store/backup/work.ts';
import type { Database } from '../store/database.ts';
import { KeyFile } from '../store/key-file.ts';
import { newestCharge } from '../store/ledger.ts';
import { MessageFiles } from '../store/message-files.ts';
import { MessageTexts } from '../store/message-texts.ts';
import { isNoSpace } from '../store/no-space.ts';
import { startStep } from '../store/open-data.ts';
import { takeRecoveryRequest } from '../store/recovery-file.ts';
import { readSetting } from '../store/settings.ts';
import { TransferThread } from '../store/transfer/thread.ts';
import { threadProgram } from '../threads/calls.ts';
import { backupSettingsOf } from './backup-settings.ts';
import { clientServices, dialled, findServer, publicRoutes } from './host-facts.ts';
import { authorityOf, holdCertificates } from './open-certificates.ts';

const CHANGELOG = join(PROJECT, 'CHANGELOG.md');
/** Challenges of an authority that are shown at the same time. */
const MOST_CHALLENGES = 1000;
/** Octets of messages that come in, over all conversations; who needs more is told to come again. */
const MOST_UNDER_WAY = 160 * 1024 * 1024;
/** Octets of messages that are judged and stored at the same time. */
const MOST_TAKEN = 48 * 1024 * 1024;

/** What the use cases share, where message texts lie, and how to let go of the connections to other servers. */
export interface Made {
  context: ServiceContext;
  files: MessageFiles;
  close(): void;
}

/** Makes all that the use cases share, by the configuration. */
export async function makeContext(
  config: Config,
  db: Database,
  log: Log,
  { diskSpace, followed = Followed.none }: { diskSpace?: (() => Promise<DiskSpace>) | undefined; followed?: Followed | undefined },
): Promise<Made> {
  const clock = new ServiceClock(Math.max(newestCharge(db), readSetting<number>(db, SERVICE_TIME) ?? 0));
  const health = new ServerHealth(() => performance.now(), config.dns.timeout_ms);
  const resolver = new Resolver({ servers: config.dns.resolvers, timeoutMs: config.dns.timeout_ms, tries: 2, now: clock.steady, health });
  const files = new MessageFiles(config.data);
  const keyFile = KeyFile.open(config.secrets.key_file, KeyFile.isNeededBy(db));
  await keyFile.sealAll(db);
  const trustedRoots =
    config.mail.trusted_roots === undefined
      ? null
      : startStep(`The file ${config.mail.trusted_roots}`, () => readFileSync(config.mail.trusted_roots ?? '', 'utf8'));
  const client = new SmtpClient({
    hostName: config.host.name,
    ownAddresses: config.host.addresses,
    dial: config.dial.map(({ to, through, proxy }) => ({ ...to, through, proxy })),
    follow: ({ name, address }) => followed.begin('delivery', name === address ? [address] : [name, address], log),
    trustedRoots,
  });
  const underWay = new OctetBudget(MOST_UNDER_WAY, () => performance.now());
  const loop = new LoopWatch(clock.now);
  const space = new Space(diskSpace ?? (() => diskSpaceOf(config.data)), log);
  db.watch = {
    during: (what, work) => loop.during(what, work),
    failed: (error) => isNoSpace(error) && space.wasFull(),
    written: () => space.wasWritten(),
  };
  const asking = { resolvers: config.dns.resolvers, timeoutMs: config.dns.timeout_ms, dial: config.dial };
  const checkThreads = new CheckThreads(threadProgram('check'), { ...asking, mostAtOnce: MOST_AT_ONCE }, health, availableParallelism());
  const context: ServiceContext = {
    db,
    texts: new MessageTexts(db, files, (error) => log.error({ fault: String(error) }, 'message texts could not be stored')),
    clock,
    host: {
      ...config.host,
      outletIncludes: config.host.outlet_includes,
      services: clientServices(config),
      blockLists: config.dns.block_lists,
      refuseListed: config.dns.refuse_listed,
      toThisMachine: config.outgoing.to_this_machine,
      maxMessageBytes: Math.floor(config.mail.max_message_mib * 1024 * 1024),
    },
    loads: new LongRuns(NOTHING_LOADED, () => log, isRefused),
    keepRemovedDays: config.mailboxes.keep_removed_days,
    lookup: resolver.lookup,
    dns: {
      ...openDns({ ...asking, now: clock.now, steady: clock.steady, health }),
      beginChecks: () => checkThreads.begin(),
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
    callOut: callOut(config.outgoing.to_this_machine),
    keys: new SigningKeys(db, keyFile),
    // One listener a page that is open.
    signals: new EventEmitter<ServiceSignals>().setMaxListeners(0),
    metrics: new Metrics(db, { resolvers: () => resolver.states(), underWay: () => underWay.used, loop, space }),
    reports: new ReportLimit(),
    guards: { mailboxes: new SignInGuard(), console: new SignInGuard() },
    recovery: { take: () => takeRecoveryRequest(config.data) },
    // One core is left for mail.
    passwords: new PasswordChecks(Math.max(1, availableParallelism() - 1), new GivenHashes().matches),
    passes: new Passes(),
    rehearse: rehearsalLine((address, port) => dialled(config, { address, port }), config.host.addresses),
    witnesses: new WitnessDesk(() => context),
    askOut: askOut(config.outgoing.to_this_machine, trustedRoots),
    backupSettings: backupSettingsOf(config),
    startBackupWork: (work, onProgress) => new BackupThread(work, onProgress),
    get backups(): BackupKeeper {
      return backups;
    },
    startTransfer: (order, { export: about, at }, sink) =>
      new TransferThread({ order, data: config.data, mostOctets: context.host.maxMessageBytes, about, at, roots: trustedRoots }, sink),
    whereIs: (host, port) => findServer(config, resolver.lookup, host, port),
    get transfers(): TransferKeeper {
      return transfers;
    },
    changelog: () => readChangelog(existsSync(CHANGELOG) ? readFileSync(CHANGELOG, 'utf8') : ''),
    // Which it is is known when all is made.
    configuration: { changes: () => [], reload: async () => [] },
    handingOver: new Set(),
    desk: new AccessDesk(() => context),
    sessions: new Sessions(),
    signInTroubles: new SignInTroubles(),
    signInHistory: new SignInHistory(),
    loop,
    space,
    underWay,
    taking: new WeightGate(MOST_TAKEN),
    primaries: new PrimaryQuestions(clock),
    checkRuns: { latest: null },
    certificates: await holdCertificates(config, { db, keyFile, clock, log }, trustedRoots),
    authority: await authorityOf(config),
    challenges: new BoundedMap(MOST_CHALLENGES),
    hasChallengePort: config.listener.some((one) => one.service === 'challenge'),
    mailServer: (domain) => mailServerOf(context, domain),
    // Which they are is known when they are open.
    tlsPorts: () => [],
    probe: probeServer,
    checkEveryMs: config.checks.every_minutes * 60_000,
    random: Math.random,
    version: VERSION,
  };
  const unusual = new UnusualWatch(context);
  const backups = new BackupKeeper(context);
  const transfers = new TransferKeeper(context);
  connectParts(context);
  return {
    context,
    files,
    close: () => {
      client.close();
      checkThreads.stop();
    },
  };
}

/** Ties the parts that watch mail to what they watch. */
function connectParts(context: ServiceContext): void {
  const { limits, notices, brakes, unusual, desk, signals, log } = context;
  const failed = (error: unknown): void => log.error({ fault: faultText(error) }, 'an event could not be recorded');
  followRows(context);
  context.metrics.watchAccess(() => context.desk.load());
  context.metrics.watchUpkeep(
    () => context.backups.state(),
    () => context.certificates.all.reduce<number | null>((first, { notAfter }) => Math.min(first ?? notAfter, notAfter), null),
  );
  limits.onReached = (reached) => {
    notices.reached(reached).catch(failed);
  };
  signals.on('nearly-full', (what) => {
    notices.nearlyFull(what).catch(failed);
  });
  signals.on('stored', (text) => desk.arrived([text]));
  signals.on('ended', (sends) => {
    brakes.note(sends).catch(failed);
  });
  signals.on('charged', (payer, sends) => {
    unusual.note(payer, sends).catch(failed);
  });
}
