import pino from 'pino';
import { Followed } from '../core/followed.ts';
import { ServedCertificates } from '../net/certificate.ts';
import { openLogOutput } from '../net/log-output.ts';
import { VERSION } from '../project.ts';
import { postmasterTrouble } from '../service/acceptance/routing.ts';
import { prepareOperator } from '../service/access/accounts.ts';
import { KeptGuesses } from '../service/access/kept-guesses.ts';
import { SignInHistoryWriter } from '../service/access/kept-sign-ins.ts';
import type { Config } from '../service/app/config.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { Upkeep } from '../service/app/upkeep.ts';
import { faultText } from '../service/base/problem.ts';
import type { DiskSpace } from '../service/base/space.ts';
import { CertificateUpkeep } from '../service/certificates/certificate-upkeep.ts';
import { Admission } from '../service/delivery/admit.ts';
import { Deliverer } from '../service/delivery/deliver.ts';
import { removeUnfinishedLists } from '../service/directory/lists/load.ts';
import { CheckSchedule } from '../service/dns/check-runs.ts';
import { Archive } from '../service/journal/archive.ts';
import { letGoOfEndedStops } from '../service/limits/set-stops.ts';
import { MoveWatch } from '../service/moves/move-watch.ts';
import { noteVersion } from '../service/overview/versions.ts';
import { TrialScorer } from '../service/trial/trial-scorer.ts';
import { Database } from '../store/database.ts';
import type { AccessSide } from './access-side.ts';
import { LiveConfig } from './live-config.ts';
import { type Made, makeContext } from './make-context.ts';
import { forkAccess, openAccess } from './open-access.ts';
import { OpenPorts } from './open-ports.ts';

export interface RunningService {
  context: ServiceContext;
  /** The port of each listener, in the order of the configuration. */
  ports: number[];
  /** Those who speak to mail programs. */
  access: AccessSide;
  /** Who looks after certificates. */
  certificates: CertificateUpkeep;
  /** Who scores messages. */
  trials: TrialScorer;
  /** The first sign-in, as long as nobody has used it. */
  firstSignIn: { name: string; code: string } | null;
  /** Begins the scheduled checks, where they were held back. */
  startChecks(): void;
  stop(): Promise<void>;
}

/** What is under way gets this long; a stop takes at most ten seconds. */
const GRACE_MS = 7000;

export interface ServiceOptions {
  logTo?: pino.DestinationStream;
  holdChecks?: boolean;
  /** How much room the disk has; asked of the system by default. */
  diskSpace?: () => Promise<DiskSpace>;
  /** Conversations that are written to the log, line by line. */
  followed?: Followed;
  /** Reads the configuration file again; throws ConfigError. */
  readConfig?: () => Config;
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
    options.logTo ?? openLogOutput(process.stdout.fd),
  );
  const db = Database.open(config.data);
  let ports: OpenPorts | null = null;
  let access: AccessSide | null = null;
  const started: Part[] = [];
  const forks = forkAccess(config);
  try {
    const made = await makeContext(config, db, log, options);
    const { context } = made;
    const followed = options.followed ?? Followed.none;
    const certificates = new ServedCertificates(config.host.name, context.clock.now);
    certificates.apply({ put: context.certificates.all, drop: [] });
    access = openAccess(config, context, { certificates, followed, forks });
    const open = new OpenPorts(config, context, certificates, access, followed);
    context.tlsPorts = () => open.tlsPorts;
    context.certificates.onChange = (change) => {
      certificates.apply(change);
      access?.certificatesChanged(change);
    };
    ports = open;
    const schedule = new CheckSchedule(context);
    const upkeep = new CertificateUpkeep(context);
    const trials = new TrialScorer(context);
    const parts = partsOf(config, made, open, schedule, upkeep, trials);
    for (const part of parts) {
      started.push(part);
      await part.start?.();
    }
    letGoOfEndedStops(context).catch((error: unknown) => log.error({ fault: faultText(error) }, 'mail held by ended stops is still held'));
    context.texts.settle().catch((error: unknown) => log.error({ fault: String(error) }, 'message texts could not be stored'));
    const startChecks = (): void => {
      if (context.checkEveryMs > 0) schedule.start();
    };
    if (!options.holdChecks) startChecks();
    const firstSignIn = await prepareOperator(context);
    sayUp(config, context, open.numbers);

    const stop = async (): Promise<void> => {
      open.stopAccepting();
      const settled = async (): Promise<void> => {
        await Promise.all(parts.toReversed().map((part) => part.stop?.()));
        await open.quiet();
      };
      const failed = (error: unknown): void => log.error({ fault: faultText(error) }, 'a part of the service did not stop cleanly');
      await within(GRACE_MS, settled().catch(failed));
      open.destroyAll();
      made.close();
      db.close();
      log.info({}, 'service has stopped');
    };
    const live = new LiveConfig(config, log, context, options.readConfig ?? null, access);
    context.configuration = live;
    return { context, access, certificates: upkeep, trials, ports: open.numbers, firstSignIn, startChecks, stop };
  } catch (error) {
    ports?.stopAccepting();
    // What runs already must not find the database closed.
    await within(GRACE_MS, Promise.allSettled(started.toReversed().map((part) => part.stop?.())));
    access?.destroyAll();
    forks?.destroy();
    db.close();
    throw error;
  }
}

/** Resolves when the work is done, or its time is over. */
const within = (ms: number, work: Promise<unknown>): Promise<unknown> =>
  Promise.race([work, new Promise<void>((resolve) => setTimeout(resolve, ms).unref())]);

/** What runs, in the order in which it is started; it is stopped the other way round. Nothing comes in before the guards know what they knew. */
function partsOf(
  config: Config,
  { context, files }: Made,
  ports: OpenPorts,
  schedule: CheckSchedule,
  certificates: CertificateUpkeep,
  trials: TrialScorer,
): Part[] {
  const deliverer = new Deliverer(context, Math.random);
  const admission = new Admission(context);
  return [
    context.space,
    new KeptGuesses(context),
    new SignInHistoryWriter(context),
    { start: () => removeUnfinishedLists(context.db) },
    { start: () => noteVersion(context) },
    { start: () => ports.open() },
    context.loop,
    { stop: () => context.texts.stop() },
    context.notices,
    new Archive(context, {
      keepDays: config.journal.keep_days,
      mostEntries: config.journal.most_entries,
      ledgerDays: config.ledger.keep_days,
    }),
    admission,
    { start: () => deliverer.wake(), stop: () => deliverer.stop() },
    { stop: () => schedule.stop() },
    certificates,
    trials,
    context.backups,
    context.transfers,
    new MoveWatch(context),
    new Upkeep(context, files),
  ];
}

/** The log says that it is up, and what should be looked at. */
function sayUp(config: Config, context: ServiceContext, numbers: readonly number[]): void {
  const { log, clock } = context;
  log.info(
    {
      host: config.host.name,
      version: VERSION,
      certificate: context.certificates.for(config.host.name)?.chain.facts.fingerprint,
      listeners: config.listener.map((one, at) => `${one.service} ${one.address}:${numbers[at]}`),
    },
    'service is up',
  );
  const warn = (trouble: string | null): void => {
    if (trouble !== null)
      log.warn(
        { postmaster: config.host.postmaster, reason: trouble },
        'mail to postmaster and abuse cannot be delivered: add that mailbox, or set host.postmaster',
      );
  };
  postmasterTrouble(context).then(warn, (error: unknown) => warn(faultText(error)));
  if (clock.ahead > 0)
    log.warn(
      { minutes: Math.round(clock.ahead / 60_000) },
      'the database has later times than this machine’s clock; see: tenedor clock show',
    );
}
