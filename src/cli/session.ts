import type { Command } from 'commander';
import type { WebSession } from '../api/access-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import type { ApiClient } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { count, dim, type Json, safe, show, table, time, zoned } from './output.ts';

export function sessionCommands(program: Command, client: ApiClient, json: Json): void {
  const session = program.command('session').description('your console sessions');
  session
    .command('list')
    .description('list console sessions')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.sessions))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<WebSession>(json, client, '/sessions', options, (all) =>
        all.length === 0
          ? 'There are no other sessions.'
          : `${table(
              ['id', 'from', 'with', zoned('signed in'), zoned('last used')],
              all.map((one) => [String(one.id), one.address, safe(one.program), time(one.createdAt), time(one.usedAt)]),
            )}\n${dim('Sign out of one with: tenedor session end ID; of all with: tenedor session end --all')}`,
      ),
    );
  session
    .command('end [id]')
    .description('end one console session, or all')
    .option('--all', 'all sessions of your account')
    .action(async (id: string | undefined, options: { all?: true }) => {
      if ((id === undefined) === (options.all === undefined))
        throw new CommandError(EXIT.usage, 'No session was named.', 'Name one from tenedor session list, or use --all.');
      const number = id === undefined ? null : Number(id);
      if (number !== null && !Number.isSafeInteger(number))
        throw new CommandError(EXIT.usage, `There is no session “${id}”.`, 'List sessions: tenedor session list');
      const { ended } = await client.post<{ ended: number }>('/sessions/end', { id: number });
      show(json, { ended }, () => `${count(ended, 'session')} ended.`);
    });
}
