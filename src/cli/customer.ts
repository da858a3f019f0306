import type { Command } from 'commander';
import type { Customer, Domain } from '../api/schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { listCommand } from './lists.ts';
import { loadCommand } from './load.ts';
import { bold, facts, type Json, nothing, show, time } from './output.ts';

export function customerCommands(program: Command, client: ApiClient, json: Json): void {
  const customer = program.command('customer').description('the owners of domains');
  customer
    .command('add <name>')
    .description('add a customer')
    .option('--contact <address>', 'address for warnings about its domains')
    .action(async (name: string, options: { contact?: string }) =>
      show(json, await client.post<Customer>('/customers', { name, ...options }), (one) => `Customer “${one.name}” added.`),
    );
  loadCommand(customer, client, json, 'customers');
  listCommand<Customer>(
    customer,
    { client, json },
    {
      command: 'list',
      about: 'list customers',
      orders: ORDERS.customers,
      path: '/customers',
      none: nothing('customers', 'tenedor customer add NAME'),
      columns: () => ['customer', 'domains', 'contact', 'since'],
      row: (one) => [one.name, one.domains, one.contact ?? '–', time(one.createdAt).slice(0, 10)],
    },
  );
  customer
    .command('show <name>')
    .description('show a customer and its domains')
    .action(async (name: string) => {
      const one = await client.get<Customer>(`/customers/${part(name)}`);
      const rows = await client.list<Domain>(`/domains?customer=${part(one.name)}`);
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
    .description('change a customer’s name or contact')
    .option('--name <new>', 'the new name')
    .option('--contact <address>', 'an address, or none')
    .action(async (name: string, options: { name?: string; contact?: string }) => {
      if (Object.keys(options).length === 0) throw new CommandError(EXIT.usage, 'No changes were given.', 'Use --name or --contact.');
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
    .description('remove a customer without domains')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`Remove the customer “${name}”?`, options.yes);
      await client.delete(`/customers/${part(name)}`);
      show(json, {}, () => `Customer “${name}” removed.`);
    });
}
