import type { Command } from 'commander';
import type { Domain, DomainPage, RecipientNames } from '../api/schemas.ts';
import { ORDERS, POLICIES, ROLES, SUBJECT_WORDS, SUBJECTS } from '../core/vocabulary.ts';
import { DOMAIN_FIELDS } from '../resources/domain.ts';
import { periodText } from '../texts/en/limits.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { addFieldOptions, changesFrom } from './field-options.ts';
import { sortOption } from './lists.ts';
import { loadCommand } from './load.ts';
import { readNamedFile } from './named-file.ts';
import { choice, rowsOption } from './numbers.ts';
import { bold, count, dim, facts, type Json, mark, meter, nothing, show, size, stamp, table } from './output.ts';
import { remove } from './removal.ts';

const domainFacts = (one: Domain): string =>
  facts([
    ['domain', bold(one.display === one.name ? one.name : `${one.display} (${one.name})`)],
    ['customer', one.customer],
    ['plan', one.plan],
    ['role', one.role],
    ['forged mail', `${one.judge} (incoming mail that fails DMARC)`],
    ['own policy', `at least p=${one.dmarcStage}`],
    ['readiness', one.readiness === null ? 'not checked yet' : `${one.readiness} of 100, checked ${stamp(one.checkedAt ?? 0)}`],
    [
      'records',
      one.checkedAt === null
        ? `tenedor check ${one.name}`
        : SUBJECTS.filter((subject) => one[subject] !== null)
            .map((subject) => `${subject.toUpperCase()} ${mark(one[subject])}`)
            .join('   '),
    ],
    ...(one.limits.length === 0 ? [['limits', 'none'] as [string, string]] : []),
    ...one.limits
      .filter((limit) => limit.quantity === 'sends')
      .map((limit): [string, string] => [
        `this ${periodText(limit.period)}`,
        `${meter(limit.used, limit.amount)}${limit.from === 'plan' ? '' : dim(limit.from === 'own' ? ' (its own limit)' : ' (raised)')}`,
      ]),
    ...(one.stops.length > 0 ? [['stopped by', `${one.stops.join(', ')} (tenedor brake list)`] as [string, string]] : []),
    ...(one.role === 'home' && one.twinOf === null
      ? [
          [
            'mail programs',
            one.mailName === 'own'
              ? `connect to mail.${one.name} (tenedor certificate show mail.${one.name})`
              : 'connect to the host’s name',
          ] as [string, string],
        ]
      : []),
    ...(one.isSampled ? [['sampled', `one message a day (tenedor rehearse messages --search ${one.name})`] as [string, string]] : []),
    ...(one.twinOf ? [['twin of', one.twinOf] as [string, string]] : []),
    ...(one.twins.length > 0 ? [['twins', one.twins.join(', ')] as [string, string]] : []),
    ...(one.catchAll ? [['catch-all', one.catchAll] as [string, string]] : []),
    ...(one.oldServer ? [['passed on', `to ${one.oldServer}, until its MX records point here`] as [string, string]] : []),
    ...(one.primaryServer ? [['handed to', one.primaryServer] as [string, string]] : []),
    ...(one.role === 'pass-on' || one.role === 'standby'
      ? [
          [
            'recipients',
            one.recipientCount === null
              ? 'asked from that server'
              : `${one.recipientCount.toLocaleString('en')} on the list (tenedor domain recipients ${one.name})`,
          ] as [string, string],
        ]
      : []),
    ...(one.mostBytes === null ? [] : [['largest mail', size(one.mostBytes)] as [string, string]]),
    ['mailboxes', `${one.mailboxes} of ${one.mostMailboxes}, ${storedWords(one)}`],
  ]);

/** What its mailboxes store, of what they may. */
const storedWords = ({ usedBytes, storageBytes, usedMessages, storageMessages }: Domain): string =>
  [
    `${size(usedBytes)}${storageBytes === null ? '' : ` of ${size(storageBytes)}`} stored`,
    ...(storageMessages === null ? [] : [`${usedMessages.toLocaleString('en')} of ${count(storageMessages, 'message')}`]),
  ].join(', ');

const daily = (one: Domain) => one.limits.find((limit) => limit.period === 'day' && limit.quantity === 'sends');

export function domainCommands(program: Command, client: ApiClient, json: Json): void {
  const domain = program.command('domain').description('customers’ domains on this server');
  domain
    .command('add <domain>')
    .description('add a domain and create its DKIM key')
    .requiredOption('--customer <name>', 'whose it is')
    .option('--plan <name>', 'the domain’s plan', 'standard')
    .addOption(choice('--role <role>', 'where the domain’s mailboxes are', ROLES).default('home'))
    .option('--to <host>', 'with pass-on or standby: the server with the mailboxes')
    .action(async (name: string, { to, ...options }: { customer: string; plan: string; role: string; to?: string }) =>
      show(json, await client.post<Domain>('/domains', { name, ...options, ...(to ? { primaryServer: to } : {}) }), (one) =>
        [
          `${one.display} is added for ${one.customer}.`,
          ...(one.role === 'home'
            ? [dim(`Next: its records (tenedor records ${one.name}), then a mailbox (tenedor mailbox add NAME@${one.name}).`)]
            : []),
        ].join('\n'),
      ),
    );
  loadCommand(domain, client, json, 'domains');
  domain
    .command('list')
    .description('list domains')
    .option('--search <text>', 'only domains whose name or customer contains this text', '')
    .addOption(sortOption(ORDERS.domains))
    .option('--limit <number>', 'how many', rowsOption, 200)
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
          ['domain', 'customer', 'role', ...SUBJECTS.map((subject) => SUBJECT_WORDS[subject]), 'day', 'limit'],
          rows.map((one) => [
            one.display,
            one.customer,
            one.role,
            ...SUBJECTS.map((subject) => mark(one[subject])),
            daily(one)?.used ?? null,
            daily(one)?.amount ?? 'no limit',
          ]),
        );
        return rows.length < total
          ? `${listed}\n${dim(`${rows.length} of ${total}. See fewer with --search, more with --limit.`)}`
          : listed;
      });
    });
  domain
    .command('show <domain>')
    .description('show a domain')
    .action(async (name: string) => show(json, await client.get<Domain>(`/domains/${part(name)}`), domainFacts));
  domain
    .command('recipients <domain>')
    .description('list the recipients known for a domain whose mailboxes are elsewhere')
    .action(async (name: string) =>
      show(json, await client.get<RecipientNames>(`/domains/${part(name)}/recipients`), ({ recipients }) =>
        recipients === null
          ? `There is no recipient list: the domain’s own server is asked. To keep a list: tenedor domain set ${name} --recipients FILE`
          : recipients.length === 0
            ? 'The list is empty: all mail for the domain is refused.'
            : recipients.join('\n'),
      ),
    );
  addFieldOptions(domain.command('set <domain>'), DOMAIN_FIELDS)
    .description('change a domain’s settings')
    .option('--customer <name>', 'whose it is')
    .option('--plan <name>', 'the domain’s plan')
    .addOption(choice('--role <role>', 'where the domain’s mailboxes are', ROLES))
    .option('--recipients <file>', 'with pass-on or standby: a file with one recipient per line, or “ask” to ask the other server')
    .addOption(choice('--dmarc <stage>', 'the domain’s own DMARC policy; none only monitors', POLICIES))
    .action(async (name: string, options: DomainOptions) => {
      if (Object.keys(options).length === 0)
        throw new CommandError(EXIT.usage, 'No changes were given.', 'See: tenedor domain set --help; for limits: tenedor limit set');
      show(json, await client.patch<Domain>(`/domains/${part(name)}`, domainBody(options)), domainFacts);
    });
  domain
    .command('remove <domain>')
    .description('remove a domain with everything in it')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await remove(client, `/domains/${part(name)}`, name, options);
      show(json, {}, () => `${name} is removed.`);
    });
}

interface DomainOptions extends Record<string, unknown> {
  recipients?: string;
}

function domainBody(options: DomainOptions): object {
  const { changes, rest } = changesFrom(DOMAIN_FIELDS, options);
  const { recipients, ...others } = rest as DomainOptions;
  const listed = recipients === undefined ? {} : { recipientList: recipients === 'ask' ? null : namesIn(recipients) };
  return { ...others, ...changes, ...listed };
}

const namesIn = (file: string): string[] =>
  readNamedFile(file)
    .split(/\r?\n/)
    .map((line) => line.trim())
    .filter((line) => line !== '');
