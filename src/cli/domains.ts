import type { Command } from 'commander';
import type { Alias, Domain, DomainPage, Mailbox, MailboxResult, Removal } from '../api/schemas.ts';
import { askSecret, confirm } from './ask.ts';
import { type ApiClient, CommandError, EXIT, part } from './client.ts';
import { readNamedFile } from './keys.ts';
import { sizeOption, wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, mark, meter, nothing, show, size, table, time } from './output.ts';

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
    ...(one.limits.length === 0 ? [['limits', 'none'] as [string, string]] : []),
    ...one.limits
      .filter((limit) => limit.quantity === 'sends')
      .map((limit): [string, string] => [
        `this ${limit.period}`,
        `${meter(limit.used, limit.amount)}${limit.from === 'plan' ? '' : dim(limit.from === 'own' ? ' (its own limit)' : ' (raised)')}`,
      ]),
    ...(one.stops.length > 0 ? [['stopped by', `${one.stops.join(', ')} (tenedor brake list)`] as [string, string]] : []),
    ...(one.twinOf ? [['twin of', one.twinOf] as [string, string]] : []),
    ...(one.twins.length > 0 ? [['twins', one.twins.join(', ')] as [string, string]] : []),
    ...(one.catchAll ? [['catch-all', one.catchAll] as [string, string]] : []),
    ...(one.handTo ? [['handed to', one.handTo] as [string, string]] : []),
    ...(one.role === 'pass-on' || one.role === 'standby'
      ? [
          [
            'recipients',
            one.standbyList === null ? 'asked of that server' : `${(JSON.parse(one.standbyList) as string[]).length} on the list`,
          ] as [string, string],
        ]
      : []),
    ...(one.mostBytes === null ? [] : [['largest mail', size(one.mostBytes)] as [string, string]]),
    ['mailboxes', `${one.mailboxes} of ${one.mostMailboxes}, ${size(one.usedBytes)} stored`],
  ]);

const daily = (one: Domain) => one.limits.find((limit) => limit.period === 'day' && limit.quantity === 'sends');

export function domainCommands(program: Command, client: ApiClient, json: Json): void {
  const domain = program.command('domain').description('the domains that are here');
  domain
    .command('add <domain>')
    .description('take a domain on; makes its DKIM key')
    .requiredOption('--customer <name>', 'whose it is')
    .option('--plan <name>', 'the plan it starts with', 'standard')
    .option('--role <role>', 'home, pass-on, standby or away', 'home')
    .option('--to <host>', 'with pass-on or standby: the server that has the mailboxes')
    .action(async (name: string, { to, ...options }: { customer: string; plan: string; role: string; to?: string }) =>
      show(json, await client.post<Domain>('/domains', { name, ...options, ...(to ? { handTo: to } : {}) }), (one) =>
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
            daily(one)?.used ?? null,
            daily(one)?.amount ?? 'no limit',
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
    .description('change customer, plan, role, and what is done with mail')
    .option('--customer <name>')
    .option('--plan <name>')
    .option('--role <role>', 'home, pass-on, standby or away')
    .option('--to <host>', 'with pass-on or standby: the server that has the mailboxes; mx finds it by MX')
    .option('--recipients <file>', 'with those roles: a file with the names that exist, one a line; ask asks that server')
    .option('--catch-all <address>', 'where addresses lead that nobody has, or none')
    .option('--largest <size>', 'the largest message that it takes or sends, like 10M, or none')
    .option('--judge <what>', 'incoming mail that DMARC finds forged: note, junk or enforce')
    .option('--dmarc <stage>', 'the domain’s own policy: none (watch), quarantine or reject')
    .action(async (name: string, options: DomainOptions) => {
      if (Object.keys(options).length === 0)
        throw new CommandError(EXIT.usage, 'Nothing to change was named.', 'See: tenedor domain set --help; for limits: tenedor limit set');
      show(json, await client.patch<Domain>(`/domains/${part(name)}`, domainBody(options)), domainFacts);
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

interface DomainOptions {
  to?: string;
  recipients?: string;
  catchAll?: string;
  largest?: string;
}

function domainBody({ to, recipients, catchAll, largest, ...rest }: DomainOptions): object {
  return {
    ...rest,
    ...(to === undefined ? {} : { handTo: to === 'mx' ? null : to }),
    ...(recipients === undefined
      ? {}
      : {
          standbyList:
            recipients === 'ask'
              ? null
              : readNamedFile(recipients)
                  .split(/\r?\n/)
                  .map((line) => line.trim())
                  .filter((line) => line !== ''),
        }),
    ...(catchAll === undefined ? {} : { catchAll: catchAll === 'none' ? null : catchAll }),
    ...(largest === undefined ? {} : { mostBytes: largest === 'none' ? null : sizeOption(largest) }),
  };
}

export function twinCommands(program: Command, client: ApiClient, json: Json): void {
  const twin = program.command('twin').description('domains whose addresses all mean the same names of another');
  twin
    .command('add <domain> <of>')
    .description('make a domain that is here a twin of another')
    .action(async (name: string, of: string) =>
      show(
        json,
        await client.put<Domain>(`/domains/${part(name)}/twin`, { of }),
        (one) => `Every address of ${one.name} now means the same name of ${one.twinOf}.`,
      ),
    );
  twin
    .command('list')
    .description('list twins')
    .action(async () =>
      show(
        json,
        (await client.get<DomainPage>('/domains?limit=500')).rows.filter((one) => one.twinOf !== null),
        (all) =>
          all.length === 0
            ? nothing('twins', 'tenedor twin add shop-two.example shop.example')
            : table(
                ['domain', 'twin of'],
                all.map((one) => [one.name, one.twinOf ?? '']),
              ),
      ),
    );
  twin
    .command('remove <domain>')
    .description('end it: the domain has addresses of its own again')
    .action(async (name: string) =>
      show(json, await client.delete<Domain>(`/domains/${part(name)}/twin`), (one) => `${one.name} is no longer a twin.`),
    );
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
