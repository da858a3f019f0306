import type { Command } from 'commander';
import type { Token } from '../api/access-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { bold, dim, facts, type Json, show, table, time, zoned } from './output.ts';

export function tokenCommands(program: Command, client: ApiClient, json: Json): void {
  const token = program.command('token').description('API tokens of your account');
  token
    .command('add <name>')
    .description('create a token; it is shown only once')
    .action(async (name: string) =>
      show(json, await client.post<{ name: string; token: string }>('/tokens', { name }), (one) =>
        facts([
          ['token', one.name],
          ['text', `${bold(one.token)}   ${dim('shown only once')}`],
        ]),
      ),
    );
  token
    .command('list')
    .description('list tokens')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.tokens))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<Token>(json, client, '/tokens', options, (all) =>
        table(
          ['token', zoned('made'), zoned('last used')],
          all.map((one) => [one.name, time(one.createdAt), one.usedAt === null ? 'never' : time(one.usedAt)]),
        ),
      ),
    );
  token
    .command('remove <name>')
    .description('revoke a token')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`Revoke the token “${name}”?`, options.yes);
      await client.delete(`/tokens/${part(name)}`);
      show(json, {}, () => `Token “${name}” is revoked.`);
    });
}
