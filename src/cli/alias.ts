import type { Command } from 'commander';
import type { Alias } from '../api/schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { type ApiClient, part } from './client.ts';
import { listCommand } from './lists.ts';
import { bold, type Json, nothing, show } from './output.ts';
import { remove } from './removal.ts';

const aliasFacts = (one: Alias): string => `${bold(one.address)} targets ${one.targets.join(', ')}`;

export function aliasCommands(program: Command, client: ApiClient, json: Json): void {
  const alias = program.command('alias').description('addresses whose mail goes to other addresses, here or elsewhere');
  alias
    .command('add <address> <targets...>')
    .description('add an alias')
    .action(async (address: string, targets: string[]) =>
      show(json, await client.post<Alias>('/aliases', { address, targets }), aliasFacts),
    );
  listCommand<Alias>(
    alias,
    { client, json },
    {
      command: 'list <domain>',
      about: 'list the aliases of a domain',
      orders: ORDERS.aliases,
      path: (domain) => `/domains/${part(domain)}/aliases`,
      none: (domain) => nothing('aliases', `tenedor alias add NAME@${domain} TARGET`),
      columns: () => ['alias', 'targets'],
      row: (one) => [one.address, one.targets.join(', ')],
    },
  );
  alias
    .command('show <address>')
    .description('show an alias')
    .action(async (address: string) => show(json, await client.get<Alias>(`/aliases/${part(address)}`), aliasFacts));
  alias
    .command('set <address> <targets...>')
    .description('change the targets of an alias')
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
