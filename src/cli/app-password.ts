import type { Command } from 'commander';
import type { AppPassword } from '../api/mailbox-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { listCommand } from './lists.ts';
import { bold, dim, facts, type Json, safe, show, time, zoned } from './output.ts';

export function appPasswordCommands(program: Command, client: ApiClient, json: Json): void {
  const appPassword = program.command('app-password').description('passwords for single devices');
  const path = (address: string): string => `/mailboxes/${part(address)}/app-passwords`;
  appPassword
    .command('add <address> <device>')
    .description('create a password for one device, such as “Ana’s phone”; it is shown only once')
    .action(async (address: string, name: string) =>
      show(json, await client.post<{ name: string; password: string }>(path(address), { name }), (one) =>
        facts([
          ['mailbox', address],
          ['device', safe(one.name)],
          ['password', `${bold(one.password)}   ${dim('shown only once')}`],
        ]),
      ),
    );
  listCommand<AppPassword>(
    appPassword,
    { client, json },
    {
      command: 'list <address>',
      about: 'list app passwords, with the last use of each',
      orders: ORDERS.appPasswords,
      path: (address) => path(address),
      none: (address) => `${address} has no app passwords. Make one: tenedor app-password add ${address} DEVICE`,
      columns: () => ['device', zoned('made'), zoned('last used'), 'from', 'program'],
      row: (one) => [
        safe(one.name),
        time(one.createdAt),
        one.usedAt === null ? 'never' : time(one.usedAt),
        one.usedFrom ?? '',
        safe(one.program ?? ''),
      ],
    },
  );
  appPassword
    .command('remove <address> <device>')
    .description('revoke a device’s password and end its sessions')
    .option('--yes', 'do not ask')
    .action(async (address: string, name: string, options: { yes?: true }) => {
      await confirm(`Revoke the password for “${name}” of ${address}?`, options.yes);
      await client.delete(`${path(address)}/${part(name)}`);
      show(json, {}, () => `The password for “${name}” is revoked.`);
    });
}
