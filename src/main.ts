import { join } from 'node:path';
import type { Command } from 'commander';
import { buildProgram, runProgram, watchOutput } from './cli/program.ts';
import { PROJECT, VERSION } from './project.ts';
import type { SetupOptions } from './setup.ts';

const DEMO_FOLDER = join(PROJECT, '.demo');

/** The service's code is loaded only by the commands that run it, so that the others start at once. */
function addServiceCommands(program: Command): void {
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
    .option('--check', 'only prove that it is whole')
    .action(async (source: string, options: { config?: string; backup?: string; passphraseFile?: string; check?: true }) => {
      const { restore } = await import('./restore.ts');
      await restore(source, options);
    });
  program
    .command('demo')
    .description('run the service in a small invented world, with data to explore')
    .option('--tour', 'run through the whole job once instead, and say whether each step came out as expected')
    .action(async (options: { tour?: true }) => {
      const { startService } = await import('./running-service.ts');
      const { readFollowed } = await import('./serve.ts');
      const { runDemo } = await import('./standins/demo.ts');
      const followed = readFollowed();
      await runDemo({
        folder: DEMO_FOLDER,
        tour: options.tour === true,
        startService: (config, settings) => startService(config, { ...settings, followed }),
        program: join(PROJECT, 'dist/tenedor.mjs'),
      });
    });
}

watchOutput();
await runProgram(
  buildProgram({ version: VERSION, demoAccessFile: join(DEMO_FOLDER, 'client.json'), addServiceCommands }),
  process.argv.slice(2),
);
