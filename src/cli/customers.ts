import type { Command } from 'commander';
import type { Customer, DomainPage, Plan } from '../api/schemas.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { type LimitOption, limitOption, limitValue, sizeOption, wholeNumber } from './numbers.ts';
import { bold, count, facts, type Json, limitText, nothing, show, size, table, time } from './output.ts';

export function customerCommands(program: Command, client: ApiClient, json: Json): void {
  const customer = program.command('customer').description('those whose domains are here');
  customer
    .command('add <name>')
    .description('add a customer')
    .action(async (name: string) =>
      show(json, await client.post<Customer>('/customers', { name }), (one) => `Customer “${one.name}” added.`),
    );
  customer
    .command('list')
    .description('list customers')
    .action(async () =>
      show(json, await client.get<Customer[]>('/customers'), (all) =>
        all.length === 0
          ? nothing('customers', 'tenedor customer add NAME')
          : table(
              ['customer', 'domains', 'since'],
              all.map((one) => [one.name, one.domains, time(one.createdAt).slice(0, 10)]),
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
          ['domains', value.domainNames.join(', ') || 'none'],
        ]),
      );
    });
  customer
    .command('set <name>')
    .description('rename a customer')
    .requiredOption('--name <new>', 'the new name')
    .action(async (name: string, options: { name: string }) =>
      show(
        json,
        await client.patch<Customer>(`/customers/${part(name)}`, { name: options.name }),
        (one) => `The customer is now called “${one.name}”.`,
      ),
    );
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
  hour?: LimitOption;
  day?: LimitOption;
  quota?: number;
  mailboxes?: number;
}

function planBody(options: PlanOptions): object {
  return {
    ...(options.name === undefined ? {} : { name: options.name }),
    ...(options.hour === undefined ? {} : { hourLimit: limitValue(options.hour) }),
    ...(options.day === undefined ? {} : { dayLimit: limitValue(options.day) }),
    ...(options.quota === undefined ? {} : { quotaBytes: options.quota }),
    ...(options.mailboxes === undefined ? {} : { mostMailboxes: options.mailboxes }),
  };
}

const planFacts = (one: Plan): string =>
  facts([
    ['plan', bold(one.name)],
    ['sends', `${limitText(one.hourLimit)} per hour, ${limitText(one.dayLimit)} per day`],
    ['quota', `${size(one.quotaBytes)} a mailbox`],
    ['mailboxes', `${one.mostMailboxes} a domain`],
    ['in use by', count(one.domains, 'domain')],
  ]);

export function planCommands(program: Command, client: ApiClient, json: Json): void {
  const plan = program.command('plan').description('the defaults that a domain starts with');
  const valued = (command: Command): Command =>
    command
      .option('--hour <sends>', 'sends per hour, or none', limitOption)
      .option('--day <sends>', 'sends per day, or none', limitOption)
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
              ['plan', 'per hour', 'per day', 'quota', 'mailboxes', 'domains'],
              all.map((one) => [
                one.name,
                limitText(one.hourLimit),
                limitText(one.dayLimit),
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
    plan.command('set <name>').description('change a plan; domains keep the limits they started with').option('--name <new>', 'a new name'),
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
