import { readFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import { CommandError, EXIT } from './cli/client.ts';
import { CertificateError } from './net/certificate.ts';
import { ListenError } from './net/listener.ts';
import { startService } from './running-service.ts';
import { type Config, ConfigError, parseConfig } from './service/config.ts';
import { StoreError } from './store/database.ts';

function readConfig(file: string): Config {
  let text: string;
  try {
    text = readFileSync(file, 'utf8');
  } catch (error) {
    throw new ConfigError(`The configuration file ${file} can’t be read (${(error as NodeJS.ErrnoException).code}).`);
  }
  return parseConfig(text, file, dirname(resolve(file)));
}

/** Runs the service of a configuration file until SIGTERM or SIGINT. What prevents the start is one clear error. */
export async function serve(file: string): Promise<void> {
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
  const listener = config.listener[web];
  if (service.firstSignIn && listener) {
    const url = `${listener.tls ? 'https' : 'http'}://${listener.address}:${service.ports[web]}/`;
    process.stdout.write(
      `First sign-in: open ${url} and sign in as ${service.firstSignIn.name} with the one-time code ${service.firstSignIn.code}\n`,
    );
  }
  let stopping = false;
  const stop = (): void => {
    if (stopping) return;
    stopping = true;
    service.stop().then(
      () => process.exit(0),
      () => process.exit(EXIT.refused),
    );
  };
  process.on('SIGTERM', stop);
  process.on('SIGINT', stop);
}
