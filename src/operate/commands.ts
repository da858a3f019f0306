import { join } from 'node:path';
import type { Command } from 'commander';
import { CommandError, EXIT } from '../cli/errors.ts';
import { wholeNumber } from '../cli/numbers.ts';
import type { OnHost } from '../cli/on-host.ts';
import { PROJECT } from '../project.ts';
import type { RestoreOptions } from './restore.ts';
import type { SetupOptions } from './setup.ts';
import type { UpdateOptions } from './update/workshop.ts';

export const DEMO_FOLDER = join(PROJECT, '.demo');

/** The service's code is loaded only by the commands that run it, so that the others start at once. */
export function addServiceCommands(program: Command): void {
  program
    .command('serve')
    .description('run the service')
    .requiredOption('--config <file>', 'the configuration file (TOML)')
    .action(async (options: { config: string }) => {
      const { serve } = await import('./serve.ts');
      await serve(options.config);
    });
  program
    .command('recover')
    .description('create a one-time code for an account whose password is lost; only on the server itself')
    .requiredOption('--config <file>', 'the configuration file (TOML) of the service')
    .option('--name <account>', 'account name', 'operator')
    .action(async (options: { config: string; name: string }) => {
      const { recover } = await import('./serve.ts');
      recover(options.config, options.name);
    });
  program
    .command('config')
    .description('the configuration file')
    .command('check')
    .description('check a configuration before a start: syntax, files, ports, name servers')
    .requiredOption('--config <file>', 'the configuration file (TOML)')
    .action(async (options: { config: string }) => {
      const { checkConfig } = await import('./config-check.ts');
      await checkConfig(options.config);
    });
  const several = (one: string, all: string[]): string[] => [...all, one];
  program
    .command('setup')
    .description('set up this host: configuration, user, directories, key file and systemd unit; never overwrites')
    .option('--host <name>', 'the host’s full name, such as mail.provider.example')
    .option('--address <address>', 'a public address of the host; may be repeated', several, [])
    .option('--postmaster <address>', 'recipient of mail to postmaster and abuse, for domains without those mailboxes')
    .option('--time-zone <zone>', 'time zone for days and months (default: the machine’s)')
    .option('--resolver <address>', 'a resolver (default: the machine’s)', several, [])
    .option('--config <file>', 'path of the configuration', '/etc/tenedor/tenedor.toml')
    .option('--data <folder>', 'data directory', '/var/lib/tenedor')
    .option('--user <name>', 'user of the service, created if run as root', 'tenedor')
    .option('--backups <folder>', 'directory for backups, best on another disk')
    .option('--exports <folder>', 'another directory that exports may be written to')
    .option('--unit <folder>', 'path of the systemd unit', '/etc/systemd/system')
    .action(async (options: SetupOptions) => {
      const { setup } = await import('./setup.ts');
      await setup(options);
    });
  program
    .command('restore <source>')
    .description('restore a backup into an empty data directory, or only verify it (--check)')
    .option('--config <file>', 'the configuration file (TOML) of the target service')
    .option('--backup <name>', 'name of the backup (default: the newest)')
    .option('--passphrase-file <file>', 'file with the passphrase that seals the key file')
    .option('--leave-out <texts...>', 'restore without these damaged messages (from --check), or “all”')
    .option('--check', 'only verify the backup')
    .action(async (source: string, options: RestoreOptions) => {
      const { restore } = await import('./restore.ts');
      await restore(source, options);
    });
  addUpdateCommands(program);
  program
    .command('demo')
    .description('run a demo in a small invented world')
    .option('--tour', 'run the whole job once, and check each step')
    .action(async (options: { tour?: true }) => {
      const { startService } = await import('../compose/running-service.ts');
      const { readFollowed } = await import('./serve.ts');
      const { runDemo } = await import('../standins/demo.ts');
      const followed = readFollowed();
      await runDemo({
        folder: DEMO_FOLDER,
        tour: options.tour === true,
        startService: (config, settings) => startService(config, { ...settings, followed }),
        program: join(PROJECT, 'dist/tenedor.mjs'),
      });
    });
}

const CONFIG = '/etc/tenedor/tenedor.toml';

/** They work on the service's own machine, and stop and start it. */
function addUpdateCommands(program: Command): void {
  const update = program.command('update').description('update this program, or roll back');
  const withConfig = (command: Command): Command =>
    command.option('--config <file>', 'the configuration file (TOML) of the service', CONFIG);
  const watching = (command: Command): Command =>
    withConfig(command)
      .option('--watch <seconds>', 'seconds to watch the service after its start', wholeNumber, 30)
      .option('--within <seconds>', 'seconds within which it must be up', wholeNumber, 300);
  const sha256: [string, string] = ['--sha256 <digest>', 'the package’s announced SHA-256'];
  withConfig(update.command('check <package>'))
    .description('check a package (.deb or .tgz), and try it on a copy of the database')
    .option(...sha256)
    .action(async (file: string, options: { config: string; sha256?: string }) => {
      const { checkUpdate } = await import('./update/update.ts');
      await checkUpdate(file, { watch: 0, within: 0, ...options });
    });
  watching(update.command('apply <package>'))
    .description('check, back up, stop, update, start and watch; roll back automatically on failure')
    .option(...sha256)
    .action(async (file: string, options: UpdateOptions) => {
      const { applyUpdate } = await import('./update/update.ts');
      await applyUpdate(file, options);
    });
  watching(update.command('back'))
    .description('roll back to the previous version, or out of an interrupted update')
    .action(async (options: UpdateOptions) => {
      const { updateBack } = await import('./update/update.ts');
      await updateBack(options);
    });
  withConfig(update.command('part', { hidden: true }).argument('<part>')).action(async (part: string, { config }: { config: string }) => {
    const { doPart, PARTS } = await import('./update/parts.ts');
    const known = PARTS.find((one) => one === part);
    if (!known) throw new CommandError(EXIT.usage, `There is no update part “${part}”.`, 'Run: tenedor update apply');
    await doPart(known, config);
  });
}

/** What can be seen without the service. */
export const onHost: OnHost = {
  config: CONFIG,
  status: async (config) => (await import('./on-host.ts')).statusOnHost(config),
  backupState: async (config) => (await import('./on-host.ts')).backupStateOnHost(config),
};
