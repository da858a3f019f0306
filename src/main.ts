import { readFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { Command } from 'commander';
import { CommandError, EXIT } from './cli/client.ts';
import { buildProgram, runProgram } from './cli/program.ts';
import { CertificateError } from './net/certificate.ts';
import { ListenError } from './net/listener.ts';
import { startService } from './running-service.ts';
import { type Config, ConfigError, parseConfig } from './service/config.ts';
import { runDemo } from './standins/demo.ts';
import { StoreError } from './store/database.ts';
import { VERSION } from './version.ts';

/** The project's folder: the bundle lies in its dist, the sources in its src. */
const PROJECT = fileURLToPath(new URL('..', import.meta.url));
const DEMO_FOLDER = join(PROJECT, '.demo');

function readConfig(file: string): Config {
  let text: string;
  try {
    text = readFileSync(file, 'utf8');
  } catch (error) {
    throw new ConfigError(`The configuration file ${file} can’t be read (${(error as NodeJS.ErrnoException).code}).`);
  }
  return parseConfig(text, file, dirname(resolve(file)));
}

async function serve(file: string): Promise<void> {
  let config: Config;
  try {
    config = readConfig(file);
  } catch (error) {
    if (!(error instanceof ConfigError)) throw error;
    throw new CommandError(EXIT.refused, error.message, 'Correct the file; tenedor.example.toml shows every key.');
  }
  const service = await startService(config).catch((error: unknown) => {
    if (error instanceof StoreError || error instanceof CertificateError || error instanceof ListenError)
      throw new CommandError(EXIT.refused, error.message, 'Nothing was started.');
    throw error;
  });
  const web = config.listener.findIndex((one) => one.service === 'web');
  if (service.firstSignIn && web >= 0) {
    const listener = config.listener[web];
    process.stdout.write(
      `First sign-in: open ${listener?.tls ? 'https' : 'http'}://${listener?.address}:${service.ports[web]}/ and sign in as ${service.firstSignIn.name} with the one-time code ${service.firstSignIn.code}\n`,
    );
  }
  let stopping = false;
  const stop = (): void => {
    if (stopping) return;
    stopping = true;
    void service.stop().then(() => process.exit(0));
  };
  process.on('SIGTERM', stop);
  process.on('SIGINT', stop);
}

function addServiceCommands(program: Command): void {
  program
    .command('serve')
    .description('run the service until it is told to stop')
    .requiredOption('--config <file>', 'the configuration file (TOML)')
    .action(async (options: { config: string }) => serve(options.config));
  program
    .command('demo')
    .description('run the service in a small invented world, with data to look at')
    .option('--tour', 'run the whole job once instead, and say whether each step came out as expected')
    .action(async (options: { tour?: true }) => {
      await runDemo({ folder: DEMO_FOLDER, tour: options.tour === true, startService, program: fileURLToPath(import.meta.url) });
    });
}

await runProgram(
  buildProgram({ version: VERSION, demoAccessFile: join(DEMO_FOLDER, 'client.json'), addServiceCommands }),
  process.argv.slice(2),
);
