import type { Command } from 'commander';
import type { Lockout } from '../api/access-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import type { ApiClient } from './client.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { bold, dim, type Json, safe, show, table, time, zoned } from './output.ts';

export function lockoutCommands(program: Command, client: ApiClient, json: Json): void {
  const lockout = program.command('lockout').description('sign-ins blocked after wrong passwords');
  lockout
    .command('list')
    .description('list locked-out accounts and addresses')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.lockouts))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<Lockout>(json, client, '/lockouts', options, (all) =>
        all.length === 0
          ? 'Nobody is locked out.'
          : `${table(
              ['who', 'signing in to', 'wrong', zoned('last'), zoned('may try again')],
              all.map((one) => [
                safe(one.name) +
                  (one.of === 'account'
                    ? dim(one.at === 'mailboxes' && one.domain === null ? ' (no mailbox here)' : ' (from addresses that failed)')
                    : ''),
                one.at === 'console' ? 'the console' : 'mailboxes',
                String(one.failures),
                time(one.last),
                time(one.until),
              ]),
            )}\n${dim('To lift a lockout: tenedor lockout lift NAME')}`,
      ),
    );
  lockout
    .command('lift <who>')
    .description('lift the lockout of a mailbox, an account or an address')
    .action(async (name: string) => {
      await client.post('/lockouts/lift', { name });
      show(json, {}, () => `${bold(safe(name))} can sign in again.`);
    });
}
