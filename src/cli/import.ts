import { resolve } from 'node:path';
import type { Command } from 'commander';
import { parse } from 'csv-parse/sync';
import type { ApiClient } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { readNamedFile } from './named-file.ts';
import { wholeNumber } from './numbers.ts';
import type { Json } from './output.ts';
import { begun, noWait } from './transfer.ts';

export function importCommands(program: Command, client: ApiClient, json: Json): void {
  const all = program.command('import').description('import mail from files or from another server');
  all
    .command('files <path> [address]')
    .description('import an mbox, a message (.eml), a directory or archive of those, or an export')
    .option('--folder <name>', 'import below this folder')
    .addOption(noWait())
    .action(async (path: string, into: string | undefined, { folder, wait }: { folder?: string; wait: boolean }) =>
      begun(client, json, '/transfers/import-files', { path: resolve(path), into: into ?? null, folder: folder ?? null }, wait),
    );
  const imap = all
    .command('imap <host> [address]')
    .description('import from another server: folders, flags and dates; repeat it as often as you like, each message is copied once')
    .option('--user <name>', 'user name there (default: the address)')
    .option('--password-file <file>', 'file with the password there')
    .option('--until-quiet <hours>', 'repeat every 15 minutes until nothing has arrived for this long', wholeNumber, 0)
    .option('--trial', 'sign in and count messages; copy nothing')
    .addOption(noWait());
  serverOptions(imap).action(async (host: string, address: string | undefined, options: ImapOptions) => {
    const accounts = options.accounts === undefined ? [oneAccount(address, options)] : listedAccounts(options.accounts);
    const { untilQuiet: untilQuietHours, trial: isTrial = false } = options;
    await begun(
      client,
      json,
      '/transfers/import-imap',
      { ...serverAsked(host, options), accounts, untilQuietHours, isTrial },
      // That may take days.
      options.wait && (untilQuietHours === 0 || isTrial),
    );
  });
}

/** What is said of another server, wherever mail comes from one. */
export const serverOptions = (command: Command): Command =>
  command
    .option('--accounts <csv>', 'several accounts: columns user, password (unless --master), address')
    .option('--master <name>', 'a master user on the other server')
    .option('--master-password-file <file>', 'file with the master user’s password')
    .option('--port <port>', 'port (default: 993, or 143 with --starttls)', wholeNumber)
    .option('--starttls', 'use STARTTLS')
    .option('--fingerprint <sha256>', 'SHA-256 of its certificate, if it is not trusted or has another name')
    .option('--at-once <number>', 'accounts to copy in parallel', wholeNumber, 3)
    .option('--mib-per-second <number>', 'total bandwidth limit in MiB/s', Number, 0);

/** The other server, as the API takes it. */
export function serverAsked(host: string, options: ServerOptions): object {
  const { port = null, fingerprint = null, atOnce, mibPerSecond } = options;
  const master =
    options.master === undefined
      ? null
      : { user: options.master, password: passwordIn(options.masterPasswordFile, '--master-password-file') };
  return { host, port, security: options.starttls ? 'starttls' : 'tls', fingerprint, master, atOnce, mibPerSecond };
}

interface ImapOptions extends ServerOptions {
  user?: string;
  passwordFile?: string;
  untilQuiet: number;
  trial?: true;
  wait: boolean;
}
export interface ServerOptions {
  accounts?: string;
  master?: string;
  masterPasswordFile?: string;
  port?: number;
  starttls?: true;
  fingerprint?: string;
  atOnce: number;
  mibPerSecond: number;
}
interface Account {
  user: string;
  password: string | null;
  into: string;
}

function passwordIn(file: string | undefined, option: string): string {
  if (file === undefined)
    throw new CommandError(EXIT.usage, 'The password is missing.', `Write it to a file that only you can read: ${option} FILE`);
  return readNamedFile(file).replace(/\r?\n$/, '');
}

function oneAccount(address: string | undefined, { user, passwordFile, master }: ImapOptions): Account {
  if (address === undefined)
    throw new CommandError(
      EXIT.usage,
      'Which mailboxes?',
      'Name the mailbox here: tenedor import imap HOST ADDRESS; or many: --accounts FILE',
    );
  const password = master !== undefined && passwordFile === undefined ? null : passwordIn(passwordFile, '--password-file');
  return { user: user ?? address, password, into: address };
}

/** `user,password,address`; who it is there may be left out where it is the address. */
export function listedAccounts(file: string): Account[] {
  let rows: Record<string, string>[];
  try {
    rows = parse(readNamedFile(file), {
      columns: (names: string[]) => names.map((name) => name.trim().toLowerCase()),
      bom: true,
      trim: true,
      skip_empty_lines: true,
    });
  } catch (error) {
    if (error instanceof CommandError) throw error;
    throw new CommandError(EXIT.usage, `${file} is not valid CSV: ${(error as Error).message}.`, 'Columns: user, password, address.');
  }
  if (rows.length === 0 || rows.some((row) => !row.address))
    throw new CommandError(
      EXIT.usage,
      `${file} has ${rows.length === 0 ? 'no rows' : 'a row without an address'}.`,
      'Columns: user, password, address.',
    );
  return rows.map(({ user = '', password = '', address = '' }) => ({
    user: user === '' ? address : user,
    password: password === '' ? null : password,
    into: address,
  }));
}
