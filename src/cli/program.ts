import { Command, CommanderError } from 'commander';
import { accessCommands } from './access.ts';
import { checkCommands } from './checks.ts';
import { ApiClient, CommandError, EXIT } from './client.ts';
import { clockCommands } from './clock.ts';
import { customerCommands, planCommands } from './customers.ts';
import { aliasCommands, domainCommands, mailboxCommands, twinCommands } from './domains.ts';
import { keyCommands } from './keys.ts';
import { networkCommands } from './networks.ts';
import { outletCommands } from './outlets.ts';
import { queueCommands } from './queue.ts';
import { recordCommands } from './records.ts';
import { sendingCommands } from './sending.ts';
import { trafficCommands } from './traffic.ts';

export interface ProgramParts {
  version: string;
  /** Where `--demo` finds its access. */
  demoAccessFile: string;
  /** Adds the commands that run the service itself. */
  addServiceCommands: (program: Command) => void;
}

/** The whole command line. */
export function buildProgram({ version, demoAccessFile, addServiceCommands }: ProgramParts): Command {
  const program = new Command('tenedor');
  program
    .description('Tenedor, a mail server for hosting providers.')
    .version(version)
    .option('--json', 'print the result as JSON')
    .option('--demo', 'talk to the demo’s service')
    .showHelpAfterError(false)
    .exitOverride()
    .configureOutput({ writeErr: () => {} })
    .addHelpText(
      'after',
      '\nExit codes: 0 done, 1 the answer is “not good”, 2 wrong usage, 3 the service said no, 4 the service can’t be reached.',
    )
    .hook('preAction', () => {
      if (!program.opts()['demo']) return;
      // Nowhere else, whatever the environment says: what is tried out on the demo must never reach the real service.
      process.env['TENEDOR_CLIENT'] = demoAccessFile;
      delete process.env['TENEDOR_URL'];
      delete process.env['TENEDOR_TOKEN'];
    });
  const client = new ApiClient();
  const json = (): boolean => program.opts()['json'] === true;
  addServiceCommands(program);
  trafficCommands(program, client, json);
  queueCommands(program, client, json);
  sendingCommands(program, client, json);
  outletCommands(program, client, json);
  customerCommands(program, client, json);
  planCommands(program, client, json);
  domainCommands(program, client, json);
  mailboxCommands(program, client, json);
  aliasCommands(program, client, json);
  twinCommands(program, client, json);
  recordCommands(program, client, json);
  checkCommands(program, client, json);
  keyCommands(program, client, json);
  networkCommands(program, client, json);
  accessCommands(program, client, json);
  clockCommands(program, client, json);
  everywhere(program, (command) => {
    command.exitOverride().configureOutput({ writeErr: () => {} });
  });
  return program;
}

function everywhere(command: Command, act: (command: Command) => void): void {
  for (const one of command.commands) {
    act(one);
    everywhere(one, act);
  }
}

/** Runs one command line; errors are two lines on stderr and an exit code. */
export async function runProgram(program: Command, args: string[]): Promise<void> {
  try {
    await program.parseAsync(args, { from: 'user' });
  } catch (error) {
    if (error instanceof CommanderError) {
      if (error.exitCode === 0) return;
      const help = helpFor(program, args);
      // With a noun alone, its verbs are the answer.
      if (error.code === 'commander.help') process.stderr.write(help.helpInformation());
      else process.stderr.write(`${sentence(error.message)}\nSee: ${name(help)} --help\n`);
      process.exitCode = EXIT.usage;
      return;
    }
    if (!(error instanceof CommandError)) throw error;
    process.stderr.write(`${error.wrong}\n${error.remedy}\n`);
    process.exitCode = error.exitCode;
  }
}

function helpFor(program: Command, args: string[]): Command {
  let command = program;
  for (const arg of args.filter((one) => !one.startsWith('-'))) {
    const next = command.commands.find((one) => one.name() === arg);
    if (!next) break;
    command = next;
  }
  return command;
}

const name = (command: Command): string => (command.parent ? `${name(command.parent)} ${command.name()}` : command.name());

function sentence(message: string): string {
  const text = message.replace(/^error: /, '').replace(/\n\(Did you mean (.*)\?\)$/, '. Did you mean $1?');
  return text.charAt(0).toUpperCase() + text.slice(1) + (/[.?]$/.test(text) ? '' : '.');
}
