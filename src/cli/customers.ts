import type { Command } from 'commander';
import type { Customer, DomainPage, Plan } from '../api/schemas.ts';
import { confirm } from './ask.ts';
import { type ApiClient, CommandError, EXIT, part } from './client.ts';
import { type LimitArgument, limitArguments, limitText } from './limit-values.ts';
import { sizeOption, wholeNumber } from './numbers.ts';
import { bold, count, facts, type Json, nothing, show, size, table, time } from './output.ts';

export function customerCommands(program: Command, client: ApiClient, json: Json): void {
  const customer = program.command('customer').description('those whose domains are here');
  customer
    .command('add <name>')
    .description('add a customer')
    .option('--contact <address>', 'where warnings about its domains go by mail')
    .action(async (name: string, options: { contact?: string }) =>
      show(json, await client.post<Customer>('/customers', { name, ...options }), (one) => `Customer “${one.name}” added.`),
    );
  customer
    .command('list')
    .description('list customers')
    .action(async () =>
      show(json, await client.get<Customer[]>('/customers'), (all) =>
        all.length === 0
          ? nothing('customers', 'tenedor customer add NAME')
          : table(
              ['customer', 'domains', 'contact', 'since'],
              all.map((one) => [one.name, one.domains, one.contact ?? '–', time(one.createdAt).slice(0, 10)]),
            ),
      ),
    );
  customer
    .command('show <name>')
    .description('show a customer and its domains')
    .action(async (name: string) => {
      const one = await client.get<Customer>(`/customers/${part(name)}`);
      const { rows } = await client.get<DomainPage>(`/domains?limit=500&customer=${part(one.name)}`);
      show(json, { ...one, domainNames: rows.map((row) => row.name) }, (value) =>
        facts([
          ['customer', bold(value.name)],
          ['since', time(value.createdAt).slice(0, 10)],
          ['contact', value.contact ?? 'none'],
          ['domains', value.domainNames.join(', ') || 'none'],
        ]),
      );
    });
  customer
    .command('set <name>')
    .description('rename a customer, or say where warnings go')
    .option('--name <new>', 'the new name')
    .option('--contact <address>', 'an address, or none')
    .action(async (name: string, options: { name?: string; contact?: string }) => {
      if (Object.keys(options).length === 0) throw new CommandError(EXIT.usage, 'Nothing to change was named.', 'Use --name or --contact.');
      const body = { ...options, ...(options.contact === 'none' ? { contact: null } : {}) };
      show(json, await client.patch<Customer>(`/customers/${part(name)}`, body), (one) =>
        facts([
          ['customer', bold(one.name)],
          ['contact', one.contact ?? 'none'],
        ]),
      );
    });
  customer
    .command('remove <name>')
    .description('remove a customer that has no domains')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`Remove the customer “${name}”?`, options.yes);
      await client.delete(`/customers/${part(name)}`);
      show(json, {}, () => `Customer “${name}” removed.`);
    });
}

interface PlanOptions {
  name?: string;
  limit?: LimitArgument[];
  mailboxLimit?: LimitArgument[];
  quota?: number;
  mailboxes?: number;
  whenFull?: string;
  holdMost?: number;
  holdHours?: number;
  unusual?: string;
  brake?: string;
}

/** `40`, `40/20` (percent of at least so many sends), or `none`. */
function brakeBody(text: string): object {
  const [, share, least] = /^(\d{1,3})(?:\/(\d{1,6}))?$/.exec(text) ?? [];
  if (text === 'none') return { brakeShare: null };
  if (share === undefined)
    throw new CommandError(EXIT.usage, `“${text}” is no brake.`, 'Write 40/20 for 40 % of at least 20 sends, or none.');
  return { brakeShare: Number(share), ...(least === undefined ? {} : { brakeLeast: Number(least) }) };
}

function planBody(options: PlanOptions): object {
  return {
    ...(options.name === undefined ? {} : { name: options.name }),
    ...(options.limit === undefined ? {} : { limits: options.limit }),
    ...(options.mailboxLimit === undefined ? {} : { mailboxLimits: options.mailboxLimit }),
    ...(options.whenFull === undefined ? {} : { whenFull: options.whenFull }),
    ...(options.holdMost === undefined ? {} : { holdMost: options.holdMost }),
    ...(options.holdHours === undefined ? {} : { holdHours: options.holdHours }),
    ...(options.unusual === undefined ? {} : { unusual: options.unusual }),
    ...(options.brake === undefined ? {} : brakeBody(options.brake)),
    ...(options.quota === undefined ? {} : { quotaBytes: options.quota }),
    ...(options.mailboxes === undefined ? {} : { mostMailboxes: options.mailboxes }),
  };
}

const planFacts = (one: Plan): string =>
  facts([
    ['plan', bold(one.name)],
    ['a domain', one.limits.map(limitText).join(', ') || 'no limit'],
    ['a mailbox', one.mailboxLimits.map(limitText).join(', ') || 'no limit of its own'],
    [
      'when full',
      one.whenFull === 'refuse' ? 'refused' : `held: at most ${count(one.holdMost, 'recipient')} for ${count(one.holdHours, 'hour')}`,
    ],
    ['unusual', { off: 'not looked for', flag: 'flagged', stop: 'flagged, and sending stopped' }[one.unusual]],
    ['brake', one.brakeShare === null ? 'none' : `when ${one.brakeShare} % of at least ${one.brakeLeast} sends in an hour fail`],
    ['quota', `${size(one.quotaBytes)} a mailbox`],
    ['mailboxes', `${one.mostMailboxes} a domain`],
    ['in use by', count(one.domains, 'domain')],
  ]);

export function planCommands(program: Command, client: ApiClient, json: Json): void {
  const plan = program.command('plan').description('the defaults that a domain starts with');
  const valued = (command: Command): Command =>
    command
      .option('--limit <limit>', 'of a domain, like day=1000 or month:bytes=50G; several times', limitArguments)
      .option('--mailbox-limit <limit>', 'of each mailbox, like hour=100; several times', limitArguments)
      .option('--when-full <what>', 'refuse or hold')
      .option('--hold-most <recipients>', 'how many may wait for room', wholeNumber)
      .option('--hold-hours <hours>', 'how long one may wait', wholeNumber)
      .option('--unusual <what>', 'off, flag or stop')
      .option('--brake <share/least>', 'like 40/20: percent of failures among at least so many sends in an hour; or none')
      .option('--quota <size>', 'quota of a mailbox, like 2G', sizeOption)
      .option('--mailboxes <number>', 'mailboxes a domain', wholeNumber);
  valued(plan.command('add <name>').description('add a plan')).action(async (name: string, options: PlanOptions) =>
    show(json, await client.post<Plan>('/plans', { name, ...planBody(options) }), planFacts),
  );
  plan
    .command('list')
    .description('list plans')
    .action(async () =>
      show(json, await client.get<Plan[]>('/plans'), (all) =>
        all.length === 0
          ? nothing('plans', 'tenedor plan add NAME')
          : table(
              ['plan', 'limits of a domain', 'when full', 'quota', 'mailboxes', 'domains'],
              all.map((one) => [
                one.name,
                one.limits.map(limitText).join(', ') || 'no limit',
                one.whenFull,
                size(one.quotaBytes),
                one.mostMailboxes,
                one.domains,
              ]),
            ),
      ),
    );
  plan
    .command('show <name>')
    .description('show a plan')
    .action(async (name: string) => show(json, await client.get<Plan>(`/plans/${part(name)}`), planFacts));
  valued(
    plan
      .command('set <name>')
      .description('change a plan; it counts at once where nothing else was set')
      .option('--name <new>', 'a new name'),
  ).action(async (name: string, options: PlanOptions) =>
    show(json, await client.patch<Plan>(`/plans/${part(name)}`, planBody(options)), planFacts),
  );
  plan
    .command('remove <name>')
    .description('remove a plan that no domain has')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`Remove the plan “${name}”?`, options.yes);
      await client.delete(`/plans/${part(name)}`);
      show(json, {}, () => `Plan “${name}” removed.`);
    });
}
