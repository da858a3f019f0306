import type { Command } from 'commander';
import type { WebSession } from '../api/access-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import type { ApiClient } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { count, dim, type Json, safe, show, table, time, zoned } from './output.ts';

export function sessionCommands(program: Command, client: ApiClient, json: Json): void {
  const session = program.command('session').description('where your account is signed in to the console');
  session
    .command('list')
    .description('list console sessions')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.sessions))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<WebSession>(json, client, '/sessions', options, (all) =>
        all.length === 0
          ? 'Your account is not signed in anywhere.'
          : `${table(
              ['id', 'from', 'with', zoned('signed in'), zoned('last used')],
              all.map((one) => [String(one.id), one.address, safe(one.program), time(one.createdAt), time(one.usedAt)]),
            )}\n${dim('Sign out of one with: tenedor session end ID; of all with: tenedor session end --all')}`,
      ),
    );
  session
    .command('end [id]')
    .description('sign out of one console session, or of all')
    .option('--all', 'every session of your account')
    .action(async (id: string | undefined, options: { all?: true }) => {
      if ((id === undefined) === (options.all === undefined))
        throw new CommandError(EXIT.usage, 'Nothing says which session is meant.', 'Name one of: tenedor session list; or say --all.');
      const number = id === undefined ? null : Number(id);
      if (number !== null && !Number.isSafeInteger(number))
        throw new CommandError(EXIT.usage, `“${id}” is not a number of a session.`, 'See the numbers with: tenedor session list');
      const { ended } = await client.post<{ ended: number }>('/sessions/end', { id: number });
      show(json, { ended }, () => `${count(ended, 'session')} ended.`);
    });
}
