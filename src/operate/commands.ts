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
    .description('run the service until it is told to stop')
    .requiredOption('--config <file>', 'the configuration file (TOML)')
    .action(async (options: { config: string }) => {
      const { serve } = await import('./serve.ts');
      await serve(options.config);
    });
  program
    .command('recover')
    .description('make a one-time code for an account whose password is lost; works on the service’s own machine only')
    .requiredOption('--config <file>', 'the configuration file (TOML) of the service')
    .option('--name <account>', 'whose account', 'operator')
    .action(async (options: { config: string; name: string }) => {
      const { recover } = await import('./serve.ts');
      recover(options.config, options.name);
    });
  program
    .command('config')
    .description('the configuration file')
    .command('check')
    .description('look at a configuration as a start would, and find everything at once: text, files, ports, name servers')
    .requiredOption('--config <file>', 'the configuration file (TOML)')
    .action(async (options: { config: string }) => {
      const { checkConfig } = await import('./config-check.ts');
      await checkConfig(options.config);
    });
  const several = (one: string, all: string[]): string[] => [...all, one];
  program
    .command('setup')
    .description(
      'set this host up: configuration, user, folders, key file and systemd unit; says what is left to do, and changes nothing that is there',
    )
    .option('--host <name>', 'the host’s full name, such as mail.provider.example')
    .option('--address <address>', 'a public address of it; several times for several', several, [])
    .option('--postmaster <address>', 'who gets mail to postmaster and abuse, where nobody else does')
    .option('--time-zone <zone>', 'in which days and months are counted; without it the machine’s')
    .option('--resolver <address>', 'a name server; without it those of the machine', several, [])
    .option('--config <file>', 'where the configuration goes', '/etc/tenedor/tenedor.toml')
    .option('--data <folder>', 'where everything is kept', '/var/lib/tenedor')
    .option('--user <name>', 'whose it is, made when root runs this', 'tenedor')
    .option('--backups <folder>', 'where backups go: best another disk')
    .option('--exports <folder>', 'where exports may be written, beside data and backups: the unit allows no other place')
    .option('--unit <folder>', 'where the unit goes', '/etc/systemd/system')
    .action(async (options: SetupOptions) => {
      const { setup } = await import('./setup.ts');
      await setup(options);
    });
  program
    .command('restore <source>')
    .description('restore a backup into the empty data directory of a configuration, all or nothing; or only prove it')
    .option('--config <file>', 'the configuration file (TOML) of the service that is to have it')
    .option('--backup <name>', 'which backup; the newest where none is named')
    .option('--passphrase-file <file>', 'the passphrase with which the key file was sealed in it')
    .option('--leave-out <texts...>', 'go without these damaged texts, as --check names them; all for every one')
    .option('--check', 'only prove that it is whole')
    .action(async (source: string, options: RestoreOptions) => {
      const { restore } = await import('./restore.ts');
      await restore(source, options);
    });
  addUpdateCommands(program);
  program
    .command('demo')
    .description('run the service in a small invented world, with data to explore')
    .option('--tour', 'run through the whole job once instead, and say whether each step came out as expected')
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
  const update = program.command('update').description('bring this program up to date, and back');
  const withConfig = (command: Command): Command =>
    command.option('--config <file>', 'the configuration file (TOML) of the service', CONFIG);
  const watching = (command: Command): Command =>
    withConfig(command)
      .option('--watch <seconds>', 'for so long the service is watched when it is up', wholeNumber, 30)
      .option('--within <seconds>', 'in so long it has to be up', wholeNumber, 300);
  const sha256: [string, string] = ['--sha256 <digest>', 'of the package, from where it is announced: no other is taken'];
  withConfig(update.command('check <package>'))
    .description('look at a package (.deb or .tgz) and try it on a copy of the database; the service goes on')
    .option(...sha256)
    .action(async (file: string, options: { config: string; sha256?: string }) => {
      const { checkUpdate } = await import('./update/update.ts');
      await checkUpdate(file, { watch: 0, within: 0, ...options });
    });
  watching(update.command('apply <package>'))
    .description(
      'check it, make a backup, stop the service, bring program and database up to date, start and watch it; go back by itself when it does not come up',
    )
    .option(...sha256)
    .action(async (file: string, options: UpdateOptions) => {
      const { applyUpdate } = await import('./update/update.ts');
      await applyUpdate(file, options);
    });
  watching(update.command('back'))
    .description('go back to the version before, or out of an update that was cut off')
    .action(async (options: UpdateOptions) => {
      const { updateBack } = await import('./update/update.ts');
      await updateBack(options);
    });
  withConfig(update.command('part', { hidden: true }).argument('<part>')).action(async (part: string, { config }: { config: string }) => {
    const { doPart, PARTS } = await import('./update/parts.ts');
    const known = PARTS.find((one) => one === part);
    if (!known) throw new CommandError(EXIT.usage, `There is no part “${part}” of an update.`, 'Parts are done by: tenedor update apply');
    await doPart(known, config);
  });
}

/** What can be seen without the service. */
export const onHost: OnHost = {
  config: CONFIG,
  status: async (config) => (await import('./on-host.ts')).statusOnHost(config),
  backupState: async (config) => (await import('./on-host.ts')).backupStateOnHost(config),
};
