import { existsSync, writeFileSync } from 'node:fs';
import type { Command } from 'commander';
import type { ListsResult } from '../api/mailbox-schemas.ts';
import { LISTS, type ListName } from '../core/vocabulary.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { readNamedList } from './named-file.ts';
import { count, type Json, progress, safe, show, table } from './output.ts';

/** What a list holds, and its columns. */
const WORDS: Record<ListName, { one: string; columns: string }> = {
  customers: { one: 'customer', columns: 'customer, contact' },
  domains: { one: 'domain', columns: 'domain, customer, plan, role, to' },
  mailboxes: { one: 'mailbox', columns: 'address, name, quota, password, hash, aliases' },
};

function requireNew(file: string): void {
  if (existsSync(file))
    throw new CommandError(
      EXIT.usage,
      `${file} already exists, and passwords would be written there.`,
      'Rename it, or choose another with --passwords.',
    );
}

/** For the one who loaded the list, and nobody else. */
function keepPasswords(file: string, passwords: ListsResult['passwords']): void {
  const text = `address,password\n${passwords.map((one) => `${one.address},${one.password}\n`).join('')}`;
  try {
    writeFileSync(file, text, { mode: 0o600, flag: 'wx' });
  } catch (error) {
    process.stderr.write(text);
    throw new CommandError(
      EXIT.unwritten,
      `The mailboxes were added, but ${file} could not be written: ${(error as Error).message}.`,
      'The passwords are shown above.',
    );
  }
}

/** Asks until it is over; on a terminal it is seen how far it has come. */
async function overAtLast(client: ApiClient, first: ListsResult): Promise<ListsResult> {
  let now = first;
  while (!now.isOver) {
    progress(`${now.done.toLocaleString('en')} of ${now.total.toLocaleString('en')} …`);
    now = await client.get<ListsResult>(`/lists/loads/${part(now.id)}`);
  }
  progress('');
  return now;
}

type Options = { trial?: true; passwords?: string } & Partial<Record<ListName, string>>;

/** Adds `load` to a noun: a list of it, and of what has to be there first. */
export function loadCommand(noun: Command, client: ApiClient, json: Json, list: ListName): void {
  const before = LISTS.slice(0, LISTS.indexOf(list));
  const command = noun
    .command('load <file>')
    .description(`add all rows of a CSV file, or none; columns ${WORDS[list].columns}`)
    .option('--trial', 'check the file, and add nothing');
  for (const one of before) command.option(`--${one} <file>`, `a file of ${one} to add first: ${WORDS[one].columns}`);
  if (list === 'mailboxes') command.option('--passwords <file>', 'file for generated passwords (default: beside the list)');
  command.action(async (file: string, options: Options) => {
    const passwordFile = options.passwords ?? `${file.replace(/\.csv$/i, '')}.passwords.csv`;
    const files = { ...options, [list]: file };
    const given = Object.fromEntries(LISTS.map((one) => [one, files[one] === undefined ? null : readNamedList(files[one])]));
    // Before anything is added: a password that can't be written down is lost.
    if (list === 'mailboxes' && !options.trial) requireNew(passwordFile);
    const { faults, loaded, passwords } = await overAtLast(
      client,
      await client.post<ListsResult>('/lists/load', { ...given, trial: options.trial === true }),
    );
    if (passwords.length > 0) keepPasswords(passwordFile, passwords);
    show(json, { loaded, faults, passwordFile: passwords.length > 0 ? passwordFile : null }, () =>
      faults.length > 0
        ? `${table(
            [...(before.length > 0 ? ['list'] : []), 'line', 'what is wrong'],
            faults.map((one) => [...(before.length > 0 ? [one.list] : []), one.line, safe(one.text)]),
          )}\n\nNothing was added. Correct the file, and load it again.`
        : options.trial
          ? 'The file can be loaded.'
          : [
              `${LISTS.filter((one) => loaded[one] > 0)
                .map((one) => count(loaded[one], WORDS[one].one, one))
                .join(', ')} added.`,
              ...(passwords.length > 0
                ? [`${count(passwords.length, 'password')} generated, in ${passwordFile}: only you can read it.`]
                : []),
            ].join('\n'),
    );
    if (faults.length > 0) process.exitCode = EXIT.notGood;
  });
}
