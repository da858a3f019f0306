import { isIP } from 'node:net';
import type { Command } from 'commander';
import type { SignIns, SignInTrouble } from '../api/access-schemas.ts';
import type { BroughtBack, Mailbox, MailboxContents, MailboxResult, Member, RemovedMailbox } from '../api/mailbox-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { askSecret } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { type ListOptions, listCommand, reverseOption, showList, sortOption } from './lists.ts';
import { loadCommand } from './load.ts';
import { memberCommands, membersTable } from './members.ts';
import { choice, NONE, numberOrNone, orNull, sizeOption, wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, nothing, safe, show, size, stamp, styled, table, time, zoned } from './output.ts';
import { remove } from './removal.ts';
import { settingsCommand } from './settings-sheet.ts';

const mailboxFacts = (one: Mailbox): string =>
  facts([
    ['mailbox', bold(one.address)],
    ...(one.name === null ? [] : [['name', safe(one.name)] as [string, string]]),
    [
      'stored',
      `${count(one.messages, 'message')}${one.quotaMessages === null ? '' : ` of ${one.quotaMessages.toLocaleString('en')}`}, ${size(one.usedBytes)} of ${size(one.quotaBytes)}`,
    ],
    ['since', time(one.createdAt).slice(0, 10)],
    ...(one.shared ? [['shared', 'shared: its members open it'] as [string, string]] : []),
    ...(one.copyTo.length > 0 ? [['copies to', one.copyTo.map(safe).join(', ')] as [string, string]] : []),
    ...(one.pop3Junk ? [['POP3', 'includes junk'] as [string, string]] : []),
    ...(one.appPasswordsOnly ? [['sign-in', 'only by app passwords'] as [string, string]] : []),
  ]);

const contentsText = ({ folders, sessions }: MailboxContents): string =>
  [
    table(
      ['folder', 'messages', 'unread', 'stored', 'stay for'],
      folders.map((one) => [
        safe(one.name),
        one.messages,
        one.unseen,
        size(one.bytes),
        one.keepDays === null ? 'always' : count(one.keepDays, 'day'),
      ]),
    ),
    '',
    sessions.length === 0
      ? 'No client is signed in.'
      : table(
          [zoned('signed in'), 'by', 'from', 'program'],
          sessions.map((one) => [time(one.since), one.service, one.client, safe(one.program ?? 'does not say')]),
        ),
  ].join('\n');

const mailboxResult = ({ mailbox, password }: MailboxResult): string =>
  password === null
    ? mailboxFacts(mailbox)
    : `${mailboxFacts(mailbox)}\n${facts([['password', `${bold(password)}   ${dim('shown only once')}`]])}`;

/** Whoever replaces a password should know who signs in all the same. */
const stillIn = ({ mailbox, appPasswords }: MailboxResult): string =>
  appPasswords === 0
    ? ''
    : `\n\n${count(appPasswords, 'app password')} still ${appPasswords === 1 ? 'signs' : 'sign'} in. ${dim(`See tenedor app-password list ${mailbox.address}; revoke all: tenedor mailbox set ${mailbox.address} --revoke-app-passwords`)}`;

export function mailboxCommands(program: Command, client: ApiClient, json: Json): void {
  const mailbox = program.command('mailbox').description('the mailboxes of a domain');
  mailbox
    .command('add <address>')
    .description('add a mailbox; without a password, one is generated and shown once')
    .option('--ask-password', 'ask for the password, or read it from standard input')
    .option('--name <name>', 'whose it is')
    .option('--shared', 'a shared mailbox: it has no password, and its members open it with theirs')
    .option('--quota <size>', 'like 2G (default: the plan’s)', sizeOption)
    .option('--quota-messages <number>', 'most messages it may have', numberOrNone)
    .action(
      async (
        address: string,
        options: { askPassword?: true; quota?: number; quotaMessages?: number | typeof NONE; name?: string; shared?: true },
      ) => {
        const password = options.askPassword ? await askSecret('Password: ') : null;
        const { quota: quotaBytes = null, name = null, shared = false } = options;
        const quotaMessages = orNull(options.quotaMessages ?? NONE);
        show(
          json,
          await client.post<MailboxResult>('/mailboxes', { address, password, quotaBytes, quotaMessages, name, shared }),
          mailboxResult,
        );
      },
    );
  loadCommand(mailbox, client, json, 'mailboxes');
  listCommand<Mailbox>(
    mailbox,
    { client, json },
    {
      command: 'list <domain>',
      about: 'list the mailboxes of a domain',
      orders: ORDERS.mailboxes,
      path: (domain) => `/domains/${part(domain)}/mailboxes`,
      none: (domain) => nothing('mailboxes', `tenedor mailbox add NAME@${domain}`),
      columns: () => ['mailbox', 'messages', 'stored', 'quota', 'since'],
      row: (one) => [one.address, one.messages, size(one.usedBytes), size(one.quotaBytes), time(one.createdAt).slice(0, 10)],
    },
  );
  mailbox
    .command('sign-ins [who]')
    .description('list recent failed sign-ins and their causes, of a domain, a mailbox or a client’s address')
    .option('--history', 'all sign-ins of the last 90 days, by week, client and password')
    .addOption(sortOption(ORDERS.signInTroubles))
    .addOption(reverseOption())
    .action(async (who: string | undefined, { history, ...options }: Omit<ListOptions, 'search'> & { history?: true }) => {
      if (who !== undefined && !who.includes('@') && isIP(who) === 0) await client.get(`/domains/${part(who)}`);
      if (history)
        return showList<SignIns>(json, client, '/sign-ins', { ...options, search: who ?? '' }, (all) =>
          all.length === 0
            ? 'Nobody has signed in yet.'
            : table(
                [zoned('last'), 'mailbox', 'result', 'by', 'from', 'password', 'times', zoned('first')],
                all.map((one) => [
                  time(one.last),
                  one.mailbox,
                  one.isGood ? styled('green', 'signed in') : styled('red', 'refused'),
                  one.service,
                  one.client,
                  one.isGood ? safe(one.device ?? 'its own') : '–',
                  one.times,
                  time(one.first),
                ]),
              ),
        );
      await showList<SignInTrouble>(json, client, '/sign-in-troubles', { ...options, search: who ?? '' }, (all) =>
        all.length === 0
          ? 'No sign-ins have failed recently.'
          : all
              .map((one) =>
                [
                  `${stamp(one.last)}  ${bold(one.mailbox ?? one.domain ?? safe(one.typed ?? 'nobody known'))}  ${one.service} from ${one.client}${one.times > 1 ? `, ${count(one.times, 'time')}` : ''}`,
                  `  ${safe(one.text)}`,
                  dim(`  ${safe(one.remedy)}`),
                ].join('\n'),
              )
              .join('\n'),
      );
    });
  mailbox
    .command('show <address>')
    .description('show a mailbox with its folders and signed-in clients')
    .action(async (address: string) => {
      const mailbox = await client.get<Mailbox>(`/mailboxes/${part(address)}`);
      const contents = await client.get<MailboxContents>(`/mailboxes/${part(address)}/contents`);
      const { rows: members } = await client.get<{ rows: Member[] }>(`/mailboxes/${part(address)}/members`);
      show(json, { ...mailbox, ...contents, members }, (one) =>
        [mailboxFacts(one), contentsText(one), ...(members.length > 0 ? [membersTable(members)] : [])].join('\n\n'),
      );
    });
  memberCommands(mailbox, client, json);
  settingsCommand(mailbox, client, json);
  mailbox
    .command('keep <address> <folder> <days>')
    .description('set how many days messages stay in a folder, such as Junk or Trash; or “always”')
    .action(async (address: string, folder: string, days: string) => {
      const keepDays = days === 'always' ? null : wholeNumber(days);
      show(json, await client.put<MailboxContents>(`/mailboxes/${part(address)}/retention`, { folder, keepDays }), contentsText);
    });
  mailbox
    .command('set <address>')
    .description('change a mailbox’s settings or password')
    .option('--name <name>', 'owner’s name, or none')
    .option('--quota <size>', 'like 2G', sizeOption)
    .option('--quota-messages <number>', 'most messages it may have, or none for no limit', numberOrNone)
    .option('--ask-password', 'ask for the new password, or read it from standard input')
    .option('--new-password', 'generate one and show it once')
    .option('--copy-to <addresses...>', 'forward a copy of incoming mail to these addresses, or none')
    .option('--revoke-app-passwords', 'also revoke its app passwords')
    .addOption(choice('--pop3-junk <whether>', 'whether POP3 includes junk, marked in the subject', ['shown', 'hidden']))
    .addOption(choice('--app-passwords <whether>', 'whether only app passwords can sign in', ['only', 'beside']))
    .action(async (address: string, options: MailboxOptions) => {
      if (Object.keys(options).length === 0)
        throw new CommandError(
          EXIT.usage,
          'No changes were given.',
          'Use --name, --quota, --quota-messages, --ask-password, --new-password, --revoke-app-passwords, --app-passwords or --pop3-junk.',
        );
      const password = options.newPassword ? null : options.askPassword ? await askSecret('New password: ') : undefined;
      show(
        json,
        await client.patch<MailboxResult>(`/mailboxes/${part(address)}`, {
          ...(options.name === undefined ? {} : { name: options.name === 'none' ? null : options.name }),
          ...(options.quota === undefined ? {} : { quotaBytes: options.quota }),
          ...(options.quotaMessages === undefined ? {} : { quotaMessages: orNull(options.quotaMessages) }),
          ...(password === undefined ? {} : { password }),
          ...(options.copyTo === undefined ? {} : { copyTo: options.copyTo.join() === 'none' ? [] : options.copyTo }),
          ...(options.pop3Junk === undefined ? {} : { pop3Junk: options.pop3Junk === 'shown' }),
          ...(options.appPasswords === undefined ? {} : { appPasswordsOnly: options.appPasswords === 'only' }),
          ...(options.revokeAppPasswords ? { revokeAppPasswords: true } : {}),
        }),
        (result) =>
          mailboxResult(result) +
          (options.revokeAppPasswords ? '\n\nAll app passwords are revoked.' : password === undefined ? '' : stillIn(result)),
      );
    });
  mailbox
    .command('remove <address>')
    .description('remove a mailbox; it can be restored with its messages for some days')
    .option('--for-good', 'delete a removed mailbox for good')
    .option('--yes', 'do not ask')
    .action(async (address: string, options: { yes?: true; forGood?: true }) => {
      if (options.forGood) {
        const one = await findRemoved(client, address);
        await remove(client, `/removed-mailboxes/${one.id}`, `${address}, removed ${stamp(one.removedAt)},`, options);
        show(json, {}, () => `${address} is deleted.`);
        return;
      }
      await remove(client, `/mailboxes/${part(address)}`, address, options);
      const kept = (await removedCalled(client, address))[0];
      show(json, {}, () =>
        kept
          ? `${address} is removed. Until ${time(kept.keptUntil).slice(0, 10)} it can be restored: tenedor mailbox restore ${address}`
          : `${address} is removed.`,
      );
    });
  listCommand<RemovedMailbox>(
    mailbox,
    { client, json },
    {
      command: 'removed <domain>',
      about: 'list removed mailboxes that can be restored',
      orders: ORDERS.removedMailboxes,
      path: (domain) => `/domains/${part(domain)}/removed-mailboxes`,
      none: 'There are no removed mailboxes.',
      columns: () => ['mailbox', 'messages', 'stored', zoned('removed'), 'kept until'],
      row: (one) => [one.address, one.messages, size(one.usedBytes), time(one.removedAt), time(one.keptUntil).slice(0, 10)],
    },
  );
  mailbox
    .command('restore <address>')
    .description('restore a removed mailbox with its password, folders and messages; of several, the most recent')
    .action(async (address: string) => {
      const { id } = await findRemoved(client, address);
      show(json, await client.post<BroughtBack>(`/removed-mailboxes/${id}/restore`, {}), ({ mailbox: one, aliasesLeft }) =>
        [
          `${one.address} is restored with ${count(one.messages, 'message')}.`,
          ...(aliasesLeft.length > 0
            ? [`These aliases pointed to it, but their addresses are in use now: ${aliasesLeft.join(', ')}.`]
            : []),
        ].join('\n'),
      );
    });
}

interface MailboxOptions {
  name?: string;
  quota?: number;
  quotaMessages?: number | typeof NONE;
  askPassword?: true;
  newPassword?: true;
  revokeAppPasswords?: true;
  appPasswords?: 'only' | 'beside';
  pop3Junk?: 'shown' | 'hidden';
  copyTo?: string[];
}

/** Removed mailboxes that had an address, the one that was removed last first. */
async function removedCalled(client: ApiClient, address: string): Promise<RemovedMailbox[]> {
  const domain = address.slice(address.lastIndexOf('@') + 1);
  const { rows } = await client.get<{ rows: RemovedMailbox[] }>(
    `/domains/${part(domain)}/removed-mailboxes?${new URLSearchParams({ search: address, sort: 'removed' })}`,
  );
  return rows.filter((one) => one.address === address.toLowerCase());
}

async function findRemoved(client: ApiClient, address: string): Promise<RemovedMailbox> {
  const [found] = await removedCalled(client, address);
  if (!found)
    throw new CommandError(
      EXIT.refused,
      `There is no removed mailbox ${address}.`,
      `List the domain’s removed mailboxes: tenedor mailbox removed ${address.slice(address.lastIndexOf('@') + 1)}`,
    );
  return found;
}
