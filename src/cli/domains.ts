import type { Command } from 'commander';
import type { Alias, Domain, DomainPage, Mailbox, MailboxResult, Removal } from '../api/schemas.ts';
import { askSecret, confirm } from './ask.ts';
import { type ApiClient, CommandError, EXIT, part } from './client.ts';
import { sizeOption, wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, limitText, mark, meter, nothing, show, size, table, time } from './output.ts';

/** Says what goes along, asks, removes. */
async function remove(client: ApiClient, path: string, name: string, options: { yes?: true }): Promise<void> {
  const removal = await client.get<Removal>(`${path}/removal`);
  if (!options.yes) {
    process.stderr.write(`Removing ${name} takes along:\n${removal.goes.map((line) => `  ${line}\n`).join('') || '  nothing else\n'}`);
    process.stderr.write(`What stays: ${removal.stays.join(', ')}.\n`);
  }
  await confirm(`Remove ${name}?`, options.yes);
  await client.delete(path);
}

const domainFacts = (one: Domain): string =>
  facts([
    ['domain', bold(one.display === one.name ? one.name : `${one.display} (${one.name})`)],
    ['customer', one.customer],
    ['plan', one.plan],
    ['role', one.role],
    ['forged mail', `${one.judge} (what is done with incoming mail that DMARC finds forged)`],
    ['own policy', `at least p=${one.dmarcStage}`],
    ['readiness', one.readiness === null ? 'not checked yet' : `${one.readiness} of 100, checked ${time(one.checkedAt ?? 0)}`],
    [
      'records',
      one.checkedAt === null
        ? `tenedor check ${one.name}`
        : (['mx', 'spf', 'dkim', 'dmarc', 'reverse'] as const)
            .filter((subject) => one[subject] !== null)
            .map((subject) => `${subject.toUpperCase()} ${mark(one[subject])}`)
            .join('   '),
    ],
    ['this hour', meter(one.usage.hour.used, one.hourLimit)],
    ['this day', meter(one.usage.day.used, one.dayLimit)],
    ['mailboxes', `${one.mailboxes} of ${one.mostMailboxes}, ${size(one.usedBytes)} stored`],
  ]);

export function domainCommands(program: Command, client: ApiClient, json: Json): void {
  const domain = program.command('domain').description('the domains that are here');
  domain
    .command('add <domain>')
    .description('take a domain on; makes its DKIM key')
    .requiredOption('--customer <name>', 'whose it is')
    .option('--plan <name>', 'the plan it starts with', 'standard')
    .option('--role <role>', 'home, pass-on, standby or away', 'home')
    .action(async (name: string, options: { customer: string; plan: string; role: string }) =>
      show(json, await client.post<Domain>('/domains', { name, ...options }), (one) =>
        [
          `${one.display} is taken on for ${one.customer}.`,
          ...(one.role === 'home'
            ? [dim(`Next: its records (tenedor records ${one.name}), then a mailbox (tenedor mailbox add NAME@${one.name}).`)]
            : []),
        ].join('\n'),
      ),
    );
  domain
    .command('list')
    .description('list domains')
    .option('--search <text>', 'only those with this in the domain’s or customer’s name', '')
    .option('--sort <column>', 'name, customer, readiness, mailboxes or storage', 'name')
    .option('--limit <number>', 'how many', wholeNumber, 200)
    .action(async (options: { search: string; sort: string; limit: number }) => {
      const page = await client.get<DomainPage>(
        `/domains?${new URLSearchParams({ search: options.search, sort: options.sort, limit: String(options.limit) })}`,
      );
      show(json, page, ({ total, rows }) => {
        if (total === 0)
          return options.search === ''
            ? nothing('domains', 'tenedor domain add DOMAIN --customer NAME')
            : `No domain matches “${options.search}”.`;
        const listed = table(
          ['domain', 'customer', 'role', 'MX', 'SPF', 'DKIM', 'DMARC', 'reverse', 'day', 'limit'],
          rows.map((one) => [
            one.display,
            one.customer,
            one.role,
            mark(one.mx),
            mark(one.spf),
            mark(one.dkim),
            mark(one.dmarc),
            mark(one.reverse),
            one.usage.day.used,
            limitText(one.dayLimit),
          ]),
        );
        return rows.length < total ? `${listed}\n${dim(`${rows.length} of ${total}; narrow it with --search, or raise --limit.`)}` : listed;
      });
    });
  domain
    .command('show <domain>')
    .description('show a domain')
    .action(async (name: string) => show(json, await client.get<Domain>(`/domains/${part(name)}`), domainFacts));
  domain
    .command('set <domain>')
    .description('change customer, plan, role, or what is done with forged mail; a new plan brings its limits')
    .option('--customer <name>')
    .option('--plan <name>')
    .option('--role <role>')
    .option('--judge <what>', 'incoming mail that DMARC finds forged: note, junk or enforce')
    .option('--dmarc <stage>', 'the domain’s own policy: none (watch), quarantine or reject')
    .action(async (name: string, options: object) => {
      if (Object.keys(options).length === 0)
        throw new CommandError(
          EXIT.usage,
          'Nothing to change was named.',
          'Use --customer, --plan, --role, --judge or --dmarc; for limits: tenedor limit set',
        );
      show(json, await client.patch<Domain>(`/domains/${part(name)}`, options), domainFacts);
    });
  domain
    .command('remove <domain>')
    .description('remove a domain with all that is in it')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await remove(client, `/domains/${part(name)}`, name, options);
      show(json, {}, () => `${name} is removed.`);
    });
}

const mailboxFacts = (one: Mailbox): string =>
  facts([
    ['mailbox', bold(one.address)],
    ['stored', `${count(one.messages, 'message')}, ${size(one.usedBytes)} of ${size(one.quotaBytes)}`],
    ['since', time(one.createdAt).slice(0, 10)],
  ]);

const mailboxResult = ({ mailbox, password }: MailboxResult): string =>
  password === null
    ? mailboxFacts(mailbox)
    : `${mailboxFacts(mailbox)}\n${facts([['password', `${bold(password)}   ${dim('shown this once')}`]])}`;

export function mailboxCommands(program: Command, client: ApiClient, json: Json): void {
  const mailbox = program.command('mailbox').description('the mailboxes of a domain');
  mailbox
    .command('add <address>')
    .description('add a mailbox; without a password one is generated and shown this once')
    .option('--ask-password', 'ask for the password, or read it from standard input')
    .option('--quota <size>', 'like 2G; the plan’s otherwise', sizeOption)
    .action(async (address: string, options: { askPassword?: true; quota?: number }) => {
      const password = options.askPassword ? await askSecret('Password: ') : null;
      show(json, await client.post<MailboxResult>('/mailboxes', { address, password, quotaBytes: options.quota ?? null }), mailboxResult);
    });
  mailbox
    .command('list <domain>')
    .description('list the mailboxes of a domain')
    .action(async (domain: string) =>
      show(json, await client.get<Mailbox[]>(`/domains/${part(domain)}/mailboxes`), (all) =>
        all.length === 0
          ? nothing('mailboxes', `tenedor mailbox add NAME@${domain}`)
          : table(
              ['mailbox', 'messages', 'stored', 'quota', 'since'],
              all.map((one) => [one.address, one.messages, size(one.usedBytes), size(one.quotaBytes), time(one.createdAt).slice(0, 10)]),
            ),
      ),
    );
  mailbox
    .command('show <address>')
    .description('show a mailbox')
    .action(async (address: string) => show(json, await client.get<Mailbox>(`/mailboxes/${part(address)}`), mailboxFacts));
  mailbox
    .command('set <address>')
    .description('change quota or password')
    .option('--quota <size>', 'like 2G', sizeOption)
    .option('--ask-password', 'ask for the new password, or read it from standard input')
    .option('--new-password', 'generate one and show it this once')
    .action(async (address: string, options: { quota?: number; askPassword?: true; newPassword?: true }) => {
      if (Object.keys(options).length === 0)
        throw new CommandError(EXIT.usage, 'Nothing to change was named.', 'Use --quota, --ask-password or --new-password.');
      const password = options.newPassword ? null : options.askPassword ? await askSecret('New password: ') : undefined;
      show(
        json,
        await client.patch<MailboxResult>(`/mailboxes/${part(address)}`, {
          ...(options.quota === undefined ? {} : { quotaBytes: options.quota }),
          ...(password === undefined ? {} : { password }),
        }),
        mailboxResult,
      );
    });
  mailbox
    .command('remove <address>')
    .description('remove a mailbox with its messages')
    .option('--yes', 'do not ask')
    .action(async (address: string, options: { yes?: true }) => {
      await remove(client, `/mailboxes/${part(address)}`, address, options);
      show(json, {}, () => `${address} is removed.`);
    });
}

const aliasFacts = (one: Alias): string => `${bold(one.address)} leads to ${one.targets.join(', ')}`;

export function aliasCommands(program: Command, client: ApiClient, json: Json): void {
  const alias = program.command('alias').description('addresses that lead to others, here or outside');
  alias
    .command('add <address> <targets...>')
    .description('add an alias')
    .action(async (address: string, targets: string[]) =>
      show(json, await client.post<Alias>('/aliases', { address, targets }), aliasFacts),
    );
  alias
    .command('list <domain>')
    .description('list the aliases of a domain')
    .action(async (domain: string) =>
      show(json, await client.get<Alias[]>(`/domains/${part(domain)}/aliases`), (all) =>
        all.length === 0
          ? nothing('aliases', `tenedor alias add NAME@${domain} TARGET`)
          : table(
              ['alias', 'leads to'],
              all.map((one) => [one.address, one.targets.join(', ')]),
            ),
      ),
    );
  alias
    .command('show <address>')
    .description('show an alias')
    .action(async (address: string) => show(json, await client.get<Alias>(`/aliases/${part(address)}`), aliasFacts));
  alias
    .command('set <address> <targets...>')
    .description('change where an alias leads')
    .action(async (address: string, targets: string[]) =>
      show(json, await client.patch<Alias>(`/aliases/${part(address)}`, { targets }), aliasFacts),
    );
  alias
    .command('remove <address>')
    .description('remove an alias')
    .option('--yes', 'do not ask')
    .action(async (address: string, options: { yes?: true }) => {
      await remove(client, `/aliases/${part(address)}`, address, options);
      show(json, {}, () => `${address} is removed.`);
    });
}
