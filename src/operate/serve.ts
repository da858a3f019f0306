import { readFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import { CommandError, EXIT } from '../cli/errors.ts';
import { type RunningService, startService } from '../compose/running-service.ts';
import { Followed } from '../core/followed.ts';
import { CertificateError } from '../net/certificate.ts';
import { ListenError } from '../net/listener.ts';
import { openLogOutput } from '../net/log-output.ts';
import { type Config, parseConfig } from '../service/app/config.ts';
import { watchFaults } from '../service/base/faults.ts';
import { faultText, Problem } from '../service/base/problem.ts';
import { oneTimeCode, secretHash } from '../service/base/secrets.ts';
import { reasonOf, StoreError } from '../store/open-data.ts';
import { askForRecovery } from '../store/recovery-file.ts';
import { readConfig } from './read-config.ts';
import { SystemManager } from './system-manager.ts';

/** Runs the service of a configuration file until SIGTERM or SIGINT. What prevents the start is one clear error. */
export async function serve(file: string): Promise<void> {
  const config = readConfig(file);
  if (config.user !== undefined && process.getuid?.() === 0)
    throw new CommandError(
      EXIT.refused,
      'The service does not run as root.',
      `Start it with the program tenedor, which becomes ${config.user}, or as that user.`,
    );
  const manager = new SystemManager(process.env);
  const followed = readFollowed();
  const logTo = openLogOutput(process.stdout.fd);
  // A reader that has gone, or a full disk behind it, is no reason to end.
  for (const stream of [process.stdout, process.stderr]) stream.on('error', () => {});
  let service: RunningService | null = null;
  // A signal that comes before the service is up counts once it is.
  let isAsked = false;
  let isStopping = false;
  const stop = (): void => {
    isAsked = true;
    if (!service || isStopping) return;
    isStopping = true;
    manager.stopping();
    const end = (code: number) => (): void => {
      logTo.flushSync();
      process.exit(code);
    };
    service.stop().then(end(EXIT.done), end(EXIT.refused));
  };
  process.on('SIGTERM', stop);
  process.on('SIGINT', stop);
  process.on('SIGHUP', () => {
    const { configuration, log } = service?.context ?? {};
    configuration
      ?.reload()
      .catch((error: unknown) =>
        log?.error({ fault: error instanceof Problem ? error.detail : faultText(error) }, 'the configuration could not be read again'),
      );
  });
  try {
    service = await startService(config, {
      logTo,
      followed,
      readConfig: () => parseConfig(readFileSync(file, 'utf8'), file, dirname(resolve(file))),
    });
  } catch (error) {
    logTo.flushSync();
    throw startError(error);
  }
  watchFaults(process, service.context);
  tellFirstSignIn(config, service);
  manager.ready();
  if (isAsked) stop();
}

/** Conversations to follow, by the environment: a restart with it shows one, and the next restart without it ends that. */
export function readFollowed(): Followed {
  const read = Followed.parse(process.env['TENEDOR_DEBUG'] ?? '');
  if (read.kind === 'ok') return read.followed;
  throw new CommandError(
    EXIT.usage,
    `TENEDOR_DEBUG is wrong: ${read.reason}.`,
    'Such as: TENEDOR_DEBUG=smtp,delivery, or smtp@203.0.113.20 for one client.',
  );
}

/** Whatever keeps the service from starting, in one sentence. */
function startError(error: unknown): unknown {
  const isSaid = error instanceof StoreError || error instanceof CertificateError || error instanceof ListenError;
  if (isSaid) return new CommandError(EXIT.refused, error.message, 'Nothing was started.');
  // What the system or the database says of files has a code; anything else is a mistake of ours.
  const { code } = (error ?? {}) as { code?: unknown };
  if (typeof code !== 'string') return error;
  return new CommandError(EXIT.refused, `The service can’t start: ${reasonOf(error)}.`, 'Nothing was started.');
}

function tellFirstSignIn(config: Config, { firstSignIn, ports }: RunningService): void {
  const web = config.listener.findIndex((one) => one.service === 'web');
  const listener = config.listener[web];
  if (!firstSignIn || !listener) return;
  const url = `${listener.tls ? 'https' : 'http'}://${listener.address}:${ports[web]}/`;
  // Whoever reads the log reads JSON only.
  process.stderr.write(`First sign-in: open ${url} and sign in as ${firstSignIn.name} with the one-time code ${firstSignIn.code}\n`);
}

/**
 * Makes a one-time code for an account whose password is lost. Who may write to the data directory is the operator; the service takes the code up
 * at the sign-in, whether it runs now or later.
 */
export function recover(file: string, account: string): void {
  const config = readConfig(file);
  const code = oneTimeCode();
  try {
    askForRecovery(config.data, { account, codeHash: secretHash(code) });
  } catch (error) {
    throw new CommandError(
      EXIT.refused,
      `Nothing can be written to ${config.data}: ${reasonOf(error)}.`,
      'Run this as the user of the service, or as root.',
    );
  }
  process.stdout.write(
    `Sign in as ${account} with the one-time code ${code}\nThe password chosen with it takes the place of the old one; all sessions of the account end then.\n`,
  );
}
