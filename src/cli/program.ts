import { type Argument, Command, CommanderError, InvalidArgumentError } from 'commander';
import { aliasCommands } from './alias.ts';
import { appPasswordCommands } from './app-password.ts';
import { backupCommands, integrityCommands } from './backup.ts';
import { stopCommands } from './brake.ts';
import { certificateCommands } from './certificate.ts';
import { checkCommands } from './check.ts';
import { ApiClient } from './client.ts';
import { clockCommands } from './clock.ts';
import { shellCommands } from './completion.ts';
import { configCommands } from './config.ts';
import { customerCommands } from './customer.ts';
import { domainCommands } from './domain.ts';
import { CommandError, EXIT, EXIT_WORDS } from './errors.ts';
import { EXAMPLES } from './examples.ts';
import { exportCommands } from './export.ts';
import { inOptionWords, optionOf } from './fields.ts';
import { groupCommands } from './groups.ts';
import { importCommands } from './import.ts';
import { keyCommands } from './key.ts';
import { ledgerCommands } from './ledger.ts';
import { limitCommands } from './limit.ts';
import { lockoutCommands } from './lockout.ts';
import { mailboxCommands } from './mailbox.ts';
import { movePlanCommands } from './move-plan.ts';
import { movedCommands } from './moved.ts';
import { networkCommands } from './network.ts';
import { noticeCommands } from './notice.ts';
import type { OnHost } from './on-host.ts';
import { outletCommands } from './outlet.ts';
import { harmlessJson, safe, useUtc } from './output.ts';
import { planCommands } from './plan.ts';
import { queueCommands } from './queue.ts';
import { recordCommands } from './records.ts';
import { rehearseCommands } from './rehearse.ts';
import { sessionCommands } from './session.ts';
import { signInCommands } from './sign-in.ts';
import { statusCommand } from './status.ts';
import { tokenCommands } from './token.ts';
import { trafficCommands } from './traffic.ts';
import { transferCommands } from './transfer.ts';
import { twinCommands } from './twin.ts';
import { updateCommands } from './update.ts';
import { witnessCommands } from './witness.ts';

export interface ProgramParts {
  version: string;
  /** Where `--demo` finds its access. */
  demoAccessFile: string;
  /** Adds the commands that run the service itself. */
  addServiceCommands: (program: Command) => void;
  onHost: OnHost;
}

function onceOption(text: string): string {
  if (!/^[\x21\x23-\x5b\x5d-\x7e]{1,200}$/.test(text))
    throw new InvalidArgumentError('Give 1 to 200 printable ASCII characters without spaces.');
  return text;
}

const argumentText = (one: Argument): string => {
  const text = `${one.name()}${one.variadic ? '...' : ''}`;
  return one.required ? `<${text}>` : `[${text}]`;
};

/** The whole command line. */
export function buildProgram({ version, demoAccessFile, addServiceCommands, onHost }: ProgramParts): Command {
  const client = new ApiClient();
  // Nowhere else, whatever the environment says: what is tried out on the demo must never reach the real service.
  const chooseDemo = (): void => {
    process.env['TENEDOR_CLIENT'] = demoAccessFile;
    delete process.env['TENEDOR_URL'];
    delete process.env['TENEDOR_TOKEN'];
  };
  const program = new Command('tenedor');
  program
    .description('Tenedor, a mail server for hosting providers.')
    .version(version)
    .option('--json', 'print the result as JSON')
    .option('--utc', 'show and read times in UTC instead of local time')
    .option('--demo', 'use the demo’s service')
    .option('--at <sign-in>', 'use another service or account, by its name in tenedor signed-in list')
    .option('--if-revision <revision>', 'only if unchanged since this revision (shown by --json)')
    .option('--once <key>', 'idempotency key: repeated within 24 hours with the same key, the command takes effect once', onceOption)
    .on('option:utc', useUtc)
    .showHelpAfterError(false)
    .addHelpCommand(new Command('help').argument('[command]').description('show the help of a command').helpGroup('Your shell:'))
    .configureHelp({ subcommandTerm: (command) => [command.name(), ...command.registeredArguments.map(argumentText)].join(' ') })
    .exitOverride()
    .configureOutput({ writeErr: () => {} })
    .addHelpText(
      'after',
      `\nExit codes:\n${EXIT_WORDS.map(([code, words]) => `  ${code}  ${words}`).join('\n')}\n\nDetails of a command: tenedor COMMAND --help`,
    )
    .hook('preAction', (_program, command) => {
      isService = command.name() === 'serve' || command.name() === 'demo';
      const { ifRevision, once, at, demo } = program.opts<{ ifRevision?: string; once?: string; at?: string; demo?: true }>();
      if (demo && at !== undefined) throw new CommandError(EXIT.usage, '--demo and --at exclude each other.', 'Leave one of them out.');
      Object.assign(client, { ifRevision, once, signIn: at, isDemo: demo === true });
      if (demo) chooseDemo();
    });
  program.hook('postAction', () => {
    const given = client.once !== undefined ? '--once' : client.ifRevision !== undefined ? '--if-revision' : null;
    if (given !== null && client.asked === 0)
      throw new CommandError(EXIT.usage, `${given} has no effect on a command that changes nothing.`, 'Leave it out.');
  });
  const json = (): boolean => program.opts()['json'] === true;
  addServiceCommands(program);
  statusCommand(program, client, json, onHost);
  trafficCommands(program, client, json);
  queueCommands(program, client, json);
  limitCommands(program, client, json);
  ledgerCommands(program, client, json);
  stopCommands(program, client, json);
  outletCommands(program, client, json);
  noticeCommands(program, client, json);
  customerCommands(program, client, json);
  planCommands(program, client, json);
  domainCommands(program, client, json);
  mailboxCommands(program, client, json);
  appPasswordCommands(program, client, json);
  aliasCommands(program, client, json);
  twinCommands(program, client, json);
  recordCommands(program, client, json);
  checkCommands(program, client, json);
  keyCommands(program, client, json);
  certificateCommands(program, client, json);
  rehearseCommands(program, client, json);
  backupCommands(program, client, json, onHost);
  movedCommands(program, client, json);
  importCommands(program, client, json);
  exportCommands(program, client, json);
  transferCommands(program, client, json);
  movePlanCommands(program, client, json);
  updateCommands(program, client, json);
  integrityCommands(program, client, json);
  configCommands(program, client, json);
  witnessCommands(program, client, json);
  networkCommands(program, client, json);
  signInCommands(program, json);
  lockoutCommands(program, client, json);
  sessionCommands(program, client, json);
  tokenCommands(program, client, json);
  clockCommands(program, client, json);
  shellCommands(program, version, client, chooseDemo);
  groupCommands(program);
  everywhere(program, (command) => {
    command.exitOverride().configureOutput({ writeErr: () => {} });
    if (command.commands.length > 0) command.addHelpCommand(false);
    const path = name(command).slice('tenedor '.length);
    const example = EXAMPLES[path];
    if (example !== undefined) command.addHelpText('after', `\nExample:\n  ${`tenedor ${path} ${example}`.trim()}`);
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
      if (error.code === 'commander.help' && !isJson(args)) {
        process.stderr.write(help.helpInformation());
        process.exitCode = EXIT.usage;
      } else if (error.code === 'commander.help')
        fail(new CommandError(EXIT.usage, `“${name(help)}” needs a verb.`, `See: ${name(help)} --help`), args);
      else fail(new CommandError(EXIT.usage, sentence(error.message), `See: ${name(help)} --help`), args);
      return;
    }
    if (!(error instanceof CommandError)) throw error;
    fail(ofOption(helpFor(program, args), error), args);
  }
}

/** A wrong value is wrong usage, and is told by the name of the option that it came from. */
function ofOption(command: Command, error: CommandError): CommandError {
  const { problem } = error;
  const option = problem?.code === 'bad-input' && problem.field ? optionOf(command, problem.field) : null;
  if (!problem || option === null) return error;
  const detail = inOptionWords(error.wrong, option);
  return new CommandError(EXIT.usage, detail, error.remedy, { ...problem, detail, field: option });
}

/** Also where the line could not be read to its end. */
const isJson = (args: readonly string[]): boolean => args.includes('--json');

/** An error is two lines, what is wrong and what to do; with --json a problem document (RFC 9457), on stderr all the same. */
function fail(error: CommandError, args: readonly string[]): void {
  const { problem, wrong, remedy, exitCode } = error;
  process.stderr.write(
    isJson(args)
      ? `${harmlessJson(problem ?? { type: `/problems/${KINDS[exitCode] ?? 'fault'}`, title: (KINDS[exitCode] ?? 'fault').replaceAll('-', ' '), detail: wrong, code: KINDS[exitCode] ?? 'fault', remedy, field: null }, 2)}\n`
      : `${safe(wrong)}\n${safe(remedy)}\n`,
  );
  process.exitCode = exitCode;
}

const KINDS: Record<number, string> = {
  [EXIT.usage]: 'wrong-usage',
  [EXIT.unreachable]: 'unreachable',
  [EXIT.refused]: 'refused',
  [EXIT.stopped]: 'stopped',
};

let isService = false;

/** A reader that has gone away (a pager, head) has what it wanted; a disk that is full is said, since the result is lost. */
export function watchOutput(): void {
  process.stdout.on('error', (error: NodeJS.ErrnoException) => {
    // A service goes on without a reader of its log.
    if (isService) return;
    if (error.code === 'EPIPE') process.exit();
    process.stderr.write(`The result could not be written (${error.code ?? error.message}).\nLook at where the output goes.\n`);
    process.exit(EXIT.unwritten);
  });
  process.stderr.on('error', () => {});
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
  const text = message
    .replace(/^error: /, '')
    .replace(/\s*\n?\(Did you mean (.*)\?\)$/, '. Did you mean $1?')
    .replace(
      /^option '(?:-\w, )?(--[\w-]+)[^']*' argument '([\s\S]*)' is invalid\. Allowed choices are (.*)\.$/,
      '$1 can’t be “$2”: it is one of $3.',
    )
    .replace(/^option '(?:-\w, )?(--[\w-]+)[^']*' argument '([\s\S]*)' is invalid\. /, '$1 can’t be “$2”. ')
    .replace(/^command-argument value '([\s\S]*)' is invalid for argument '(.*)'\. /, '“$1” can’t be the $2. ')
    .replace(/^required option '(?:-\w, )?(--[\w-]+)[^']*' not specified/, '$1 is missing')
    .replace(/^missing required argument '(.*)'/, (_all, name: string) => `${name.toUpperCase()} is missing`)
    .replace(/^option '(?:-\w, )?(--[\w-]+)[^']*' argument missing/, '$1 needs a value')
    .replace(/^unknown (option|command) '([\s\S]*?)'/, 'there is no $1 “$2”')
    .replace(
      /^too many arguments.*Expected (\d+) arguments? but got (\d+)/,
      (_said, most: string, got: string) =>
        `${got} ${got === '1' ? 'argument was' : 'arguments were'} given, and ${most === '0' ? 'none is' : `${most} ${most === '1' ? 'is' : 'are'}`} taken`,
    );
  return text.charAt(0).toUpperCase() + text.slice(1) + (/[.?]$/.test(text) ? '' : '.');
}
